package daemon

import (
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/settings"
)

var update = flag.Bool("update", false, "rewrite documents")

const referenceHead = `# Settings of nurvikd

Made from the code; [operations.md](operations.md) says what to do with them. Each setting is a flag, a key of the
configuration file without the two dashes, and a variable of the environment. The call comes before the environment, and
that before the file. What can be repeated in a call is a list in the file; the environment takes one value.

| setting | of | default | what it does |
| --- | --- | --- | --- |
`

// setting is one flag with the commands that have it.
type setting struct {
	flag     *pflag.Flag
	commands []string
}

// gather adds the flags of the command and of those below it.
func gather(cmd *cobra.Command, into map[string]*setting) {
	name := strings.TrimPrefix(cmd.CommandPath(), "nurvikd ")
	if cmd.Root() == cmd {
		name = "all"
	}
	add := func(f *pflag.Flag) {
		if f.Hidden || f.Name == "help" {
			return
		}
		key := f.Name + "\x00" + f.Usage
		if into[key] == nil {
			into[key] = &setting{flag: f}
		}
		if !slices.Contains(into[key].commands, name) {
			into[key].commands = append(into[key].commands, name)
		}
	}
	cmd.LocalNonPersistentFlags().VisitAll(add)
	cmd.PersistentFlags().VisitAll(add)
	for _, below := range cmd.Commands() {
		gather(below, into)
	}
}

// reference is the document: the same whoever makes it.
func reference() string {
	all := map[string]*setting{}
	gather((&app{stdout: io.Discard, stderr: io.Discard}).root(), all)
	keys := make([]string, 0, len(all))
	for key := range all {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	places := strings.NewReplacer(
		demoDirectory(), "/var/lib/nurvik-demo for root, and else ~/.local/state/nurvik-demo",
		dataDirectory(), "/var/lib/nurvik for root, and else ~/.local/state/nurvik",
		settings.DefaultFile("nurvikd"), "~/.config/nurvik/nurvikd.yaml", "|", `\|`)
	out := strings.Builder{}
	out.WriteString(referenceHead)
	for _, key := range keys {
		s := all[key]
		value, usage := pflag.UnquoteUsage(s.flag)
		name := "--" + s.flag.Name
		if value != "" {
			name += " " + value
		}
		standard := s.flag.DefValue
		if standard == "[]" || standard == "false" || strings.Contains(usage, "(default") {
			standard = ""
		}
		slices.Sort(s.commands)
		fmt.Fprintf(&out, "| `%s`, `NURVIK_%s` | %s | %s | %s |\n", name,
			strings.ToUpper(strings.ReplaceAll(s.flag.Name, "-", "_")), strings.Join(s.commands, ", "),
			places.Replace(standard), places.Replace(usage))
	}
	return out.String()
}

// TestReferenceDocument holds docs/settings.md to the code.
func TestReferenceDocument(t *testing.T) {
	const path = "../../docs/settings.md"
	got := reference()
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, string(want) == got, "docs/settings.md is not of this code: make docs")
	for _, name := range []string{"--listen", "--keep-days", "--tls-certificate", "--database"} {
		assert.Contains(t, got, name)
	}
}
