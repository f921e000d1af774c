package audit

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nurvik/core/spelling"
)

// fileEndings are those of files that a call may name; no name of the public
// DNS ends so.
var fileEndings = []string{
	".yaml", ".yml", ".pem", ".pme", ".crt", ".cer", ".cert", ".der", ".key", ".csr", ".p12", ".pfx", ".p7b", ".jks",
	".tar", ".tgz", ".json", ".txt", ".conf",
}

// mistyped looks for the file that may be meant by a target which is no file
// and would be taken for a host name: one in this directory whose name is
// nearly the same. It is "" where none is.
func mistyped(target string) string {
	if strings.ContainsAny(target, ":/") {
		return ""
	}
	entries, err := os.ReadDir(".")
	if err != nil {
		return ""
	}
	var names []string
	for _, e := range entries {
		if endsAsFile(e.Name()) || endsAsFile(target) {
			names = append(names, e.Name())
		}
	}
	return spelling.Nearest(target, names)
}

func endsAsFile(name string) bool {
	return slices.Contains(fileEndings, strings.ToLower(filepath.Ext(name)))
}
