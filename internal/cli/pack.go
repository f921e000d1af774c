package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nurvik/core/assess"
	"nurvik/core/draft"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/keystore"
	"nurvik/core/naming"
	"nurvik/core/pack"
	"nurvik/core/pbe"
	"nurvik/core/policy"
	"nurvik/core/serverconf"
	"nurvik/core/trust"
	"nurvik/internal/audit"
	"nurvik/internal/inquiry"
	"nurvik/internal/outfile"
	"nurvik/internal/report"
	"nurvik/internal/vantage"
)

// packFlags are the flags of "nurvik pack".
type packFlags struct {
	material                materialFlags
	asking                  askingFlags
	at, shape, server       string
	names, trust            []string
	directory, base         string
	withKey, withRoot       bool
	store, protection       string
	alias, failFrom, policy string
	force                   bool
	password                newPasswordFlag
}

func (a *app) packCommand() *cobra.Command {
	f := &packFlags{}
	var shapes, servers []string
	for _, s := range serverconf.Shapes() {
		shapes = append(shapes, string(s))
	}
	for _, s := range serverconf.Servers() {
		servers = append(servers, strings.ToLower(s.Name))
	}
	cmd := &cobra.Command{
		Use:     "pack PATH... --shape SHAPE | --as-for SERVER",
		GroupID: "alone",
		Short:   "Write the files that a server wants: certificate, chain and key, in order",
		Long: `Takes any heap of certificates and keys, picks the newest valid certificate for the
names, its key and its intermediates, and writes them in the shape that a server wants:

  bundle    certificate and intermediates in one file
  split     the certificate, and the intermediates in a second file
  combined  private key, certificate and intermediates in one file
  pieces    each CA certificate by itself, root first, then the certificate
  keystore  PKCS#12, or a Java keystore
  der       each certificate by itself, in DER

With --as-for the server decides the shape, and the key is written too. Private keys get
mode 0600. Everything is read back before it is put in place, all files or none. What does
not fit, or has a finding at or above --fail-from, is refused with the reason (status 1).`,
		Example: `  nurvik pack from-the-issuer.zip --shape bundle --out /etc/nginx/tls
  nurvik pack heap/ --name tides.tarnholm.example --as-for haproxy --out /etc/haproxy/tls
  nurvik pack heap/ --shape keystore --keystore-type jks --alias tides --new-password-file secret.txt`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return a.pack(cmd.Context(), f, args) },
	}
	a.addOutput(cmd)
	a.addMaterial(cmd, &f.material)
	flags := cmd.Flags()
	flags.StringVar(&f.shape, "shape", "", "write files in this `SHAPE`: "+strings.Join(shapes, ", "))
	flags.StringVar(&f.server, "as-for", "", "write what this `SERVER` wants: "+strings.Join(servers, ", "))
	flags.StringArrayVar(&f.names, "name", nil, "the certificate must cover this `NAME`; repeat for more")
	flags.StringArrayVar(&f.trust, "trust", nil, "end the chain at a root of this trust `STORE`; repeat for alternatives "+
		"(default system). A root among the PATHs will do too")
	flags.StringVar(&f.directory, "out", ".", "write into this `DIRECTORY`")
	flags.StringVar(&f.base, "file", "", "`BASE` of the names of the files (default the first name)")
	flags.BoolVar(&f.withKey, "with-key", false,
		"write the private key into a file of its own, for shapes that lack it")
	flags.BoolVar(&f.withRoot, "with-root", false, "put the root behind the intermediates")
	flags.StringVar(&f.store, "keystore-type", "pkcs12", "`TYPE` of the keystore: pkcs12 or jks")
	flags.StringVar(&f.protection, "protection", "modern", "`PROTECTION` of PKCS#12: modern, or compatible with old programs")
	flags.StringVar(&f.alias, "alias", "", "`NAME` of the entry in the keystore (default the first name)")
	f.password.add(cmd, "the keystore")
	flags.BoolVar(&f.force, "force", false, "replace files that exist")
	flags.StringVar(&f.at, "at", "", atHelp)
	flags.StringVar(&f.policy, "policy", "", "judge by this `POLICY`, built in or a file (default "+policy.Default+")")
	flags.StringVar(&f.failFrom, "fail-from", "fault", "refuse a set with findings from this `SEVERITY` on: fault, risk, "+
		"note or never")
	flags.BoolVar(&f.asking.issuers, "fetch", false, "fetch missing intermediates from the URLs in the certificates")
	flags.StringArrayVar(&f.asking.networks, "allow-network", nil, "also fetch from this `NETWORK`; repeat for more")
	_ = cmd.RegisterFlagCompletionFunc("shape", cobra.FixedCompletions(shapes, cobra.ShellCompDirectiveNoFileComp))
	_ = cmd.RegisterFlagCompletionFunc("as-for", cobra.FixedCompletions(servers, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

// form is how the files are to be written, as far as the flags say it.
func (f *packFlags) form(at time.Time) (form pack.Form, server *serverconf.Server, err error) {
	form = pack.Form{Shape: serverconf.Shape(f.shape), WithKey: f.withKey, WithRoot: f.withRoot, Java: f.store == "jks",
		Old: f.protection == "compatible", Alias: f.alias, Base: f.base, At: at}
	switch {
	case (f.shape == "") == (f.server == ""):
		return form, nil, errors.New("say either --shape or --as-for")
	case f.server != "":
		s, err := serverconf.Find(f.server)
		if err != nil {
			return form, nil, fmt.Errorf("--as-for: %w", err)
		}
		server = &s
		form.Shape = s.Shape
		form.WithKey = s.Shape != serverconf.Keystore && s.Shape != serverconf.Combined
	case !slices.Contains(serverconf.Shapes(), form.Shape):
		return form, nil, fmt.Errorf("--shape: %q is no shape; see \"nurvik pack --help\"", f.shape)
	}
	switch {
	case f.store != "pkcs12" && f.store != "jks":
		err = fmt.Errorf("--keystore-type: %q is neither pkcs12 nor jks", f.store)
	case f.protection != "modern" && f.protection != "compatible":
		err = fmt.Errorf("--protection: %q is neither modern nor compatible", f.protection)
	case f.password.file != "" && form.Shape != serverconf.Keystore:
		err = errors.New("--new-password-file is for the shape keystore")
	case f.base != "" && (filepath.Base(f.base) != f.base || f.base == "." || f.base == ".."):
		err = fmt.Errorf("--file: %q is no name of a file", f.base)
	}
	if info, statErr := os.Stat(f.directory); err == nil && (statErr != nil || !info.IsDir()) {
		err = fmt.Errorf("--out: %s is no directory", f.directory)
	}
	return form, server, err
}

func (a *app) pack(ctx context.Context, f *packFlags, paths []string) error {
	at, err := parseMoment(f.at, a.now())
	if err != nil {
		return usage(fmt.Errorf("--at: %w", err))
	}
	limit, never, err := parseFailFrom(f.failFrom)
	if err != nil {
		return usage(err)
	}
	form, server, err := f.form(at)
	if err != nil {
		return usage(err)
	}
	set, unexamined, err := a.packed(ctx, f, paths, at)
	var no *pack.RefusedError
	switch {
	case errors.As(err, &no):
		return &statusError{statusFindings, fmt.Errorf("nothing was written: %w", err)}
	case err != nil:
		return err
	case ctx.Err() != nil:
		return &statusError{statusUnexamined, errors.New("interrupted; nothing was written")}
	}
	result := report.Packed{Leaf: set.Leaf.Summary(), Trusted: set.Trusted, Findings: set.Findings,
		Unexamined: unexamined}
	if result.Refused = !never && judge.Reach(set.Findings, limit); !result.Refused {
		if err := a.writePack(f, form, server, set, &result); err != nil {
			return err
		}
	}
	if err := a.write(report.Pack(&result)); err != nil {
		return err
	}
	switch {
	case result.Refused:
		return &statusError{statusFindings,
			errors.New("nothing was written; mend what is wrong, or say --fail-from never")}
	case len(unexamined) > 0:
		return &statusError{status: statusUnexamined}
	}
	return nil
}

// packed reads the heap and assembles the set.
func (a *app) packed(ctx context.Context, f *packFlags, paths []string, at time.Time) (*pack.Set, []audit.Unexamined,
	error) {
	w := pack.Wanted{}
	var err error
	if w.Policy, err = audit.LoadPolicy(f.policy); err != nil {
		return nil, nil, err
	}
	for _, name := range f.names {
		r, err := naming.Parse(name)
		if err != nil {
			return nil, nil, usage(fmt.Errorf("--name: %w", err))
		}
		w.Names = append(w.Names, r)
	}
	ring := &pack.Keyring{}
	source, err := a.gatherKeys(ctx, &f.material, paths, ring)
	if err != nil {
		return nil, nil, err
	}
	loader := &trust.Loader{Opener: keystore.Opener{Passwords: source.Reader.Passwords, Budget: &pbe.Budget{}}}
	texts := f.trust
	if len(texts) == 0 {
		texts = []string{trust.SystemName}
	}
	for _, text := range texts {
		s, err := loader.Load(text)
		if err != nil {
			return nil, nil, err
		}
		w.Stores = append(w.Stores, s)
	}
	if f.asking.issuers {
		if w.Complete, err = a.completer(ctx, &f.asking); err != nil {
			return nil, nil, err
		}
	}
	heap := pack.NewHeap(source.Files, ring)
	leaf, err := heap.Choose(w.Names, at)
	if errors.Is(err, pack.ErrNone) {
		for _, u := range source.Unexamined {
			return nil, nil, fmt.Errorf("nothing was written: %s", u)
		}
		return nil, nil, fmt.Errorf("nothing was written: %w", err)
	}
	if err != nil {
		return nil, nil, err
	}
	set, err := heap.Assemble(leaf, w, assess.Options{At: at, Report: a.report})
	return set, source.Unexamined, err
}

// completer fetches the intermediates that a chain lacks.
func (a *app) completer(ctx context.Context, asking *askingFlags) (func(*facts.File, *assess.Engine,
	assess.Expectation), error) {
	plan, err := audit.NewPlan(ctx, audit.Request{Networks: asking.networks, Trust: []string{}})
	if err != nil {
		return nil, err
	}
	network, err := vantage.Network(vantage.NameServer{})
	if err != nil {
		return nil, err
	}
	desk := inquiry.New(inquiry.Options{Issuers: true, Networks: plan.Networks(), Lookup: network.Lookup, Now: a.now})
	return func(f *facts.File, e *assess.Engine, x assess.Expectation) {
		desk.Complete(ctx, 1, func(int) inquiry.Target { return inquiry.Target{File: f, Engine: e, Expected: x} }, nil)
	}, nil
}

// writePack makes, checks and writes the files.
func (a *app) writePack(f *packFlags, form pack.Form, server *serverconf.Server, set *pack.Set,
	result *report.Packed) error {
	first := set.Leaf.Label()
	if names := set.Leaf.HostNames(); len(names) > 0 {
		first = names[0]
	}
	if form.Base == "" {
		form.Base = draft.FileName(first)
	}
	if form.Alias == "" {
		form.Alias = first
	}
	if form.Shape == serverconf.Keystore && set.Key != nil {
		var err error
		if form.Password, err = a.newPassword(&f.password, "the keystore"); err != nil {
			return err
		}
	}
	files, err := set.Write(form)
	var no *pack.RefusedError
	if errors.As(err, &no) {
		return &statusError{statusFindings, fmt.Errorf("nothing was written: %w", err)}
	}
	if err == nil {
		err = set.Check(form, files)
	}
	if err != nil {
		return fmt.Errorf("nothing was written: %w", err)
	}
	directory, err := filepath.Abs(f.directory) // configuration names whole paths
	if err != nil {
		return err
	}
	var out []outfile.File
	at := map[serverconf.Part]string{}
	for _, file := range files {
		path := filepath.Join(directory, file.Name)
		out = append(out, outfile.File{Path: path, Data: file.Data, Mode: file.Mode})
		result.Files = append(result.Files, report.PackedFile{Path: path, What: file.What,
			Mode: fmt.Sprintf("%04o", file.Mode)})
		if at[file.Part] == "" {
			at[file.Part] = path
		}
	}
	if err := outfile.Write(f.force, out...); errors.Is(err, outfile.ErrExists) {
		return usage(fmt.Errorf("nothing was written: %w; choose another --file or --out, or add --force", err))
	} else if err != nil {
		return fmt.Errorf("nothing was written: %w", err)
	}
	for _, file := range out { // what is on the disk is what counts
		if data, err := os.ReadFile(file.Path); err != nil || string(data) != string(file.Data) {
			return fmt.Errorf("%s does not hold what was written to it (%w); do not use it", file.Path,
				errors.Join(err, errors.New("its bytes differ")))
		}
	}
	if set.Key != nil && set.Key.Encrypted && form.NeedsKey() && form.Shape != serverconf.Keystore {
		result.Note = fmt.Sprintf("The private key was encrypted in %s and is not any more.", set.Key.Path)
	}
	if server != nil {
		result.Servers = []report.PackedServer{{Name: server.Name, Lines: server.Lines(at), Reload: server.Reload}}
		return nil
	}
	for _, s := range serverconf.Servers() {
		if s.Shape == form.Shape {
			result.Servers = append(result.Servers, report.PackedServer{Name: s.Name, Lines: s.Lines(at),
				Reload: s.Reload})
		}
	}
	return nil
}
