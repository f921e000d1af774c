package cli

import (
	"context"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"nurvik/core/assess"
	"nurvik/core/draft"
	"nurvik/core/facts"
	"nurvik/core/inputfile"
	"nurvik/core/judge"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/internal/outfile"
	"nurvik/internal/report"
)

// draftFlags are the flags of "nurvik draft".
type draftFlags struct {
	targetFlags
	names           []string
	subject         draft.Subject
	key             string
	staple, encrypt bool
	template        string
	like, plan      string
	into            draftPlace
	password        newPasswordFlag
}

// draftPlace is where keys and requests go.
type draftPlace struct{ directory, file string }

func (a *app) draftCommand() *cobra.Command {
	f := &draftFlags{}
	var kinds []string
	for _, k := range draft.KeyKinds() {
		kinds = append(kinds, string(k))
	}
	cmd := &cobra.Command{
		Use:     "draft --name NAME... | --like PATH|ENDPOINT | --plan FILE",
		GroupID: "alone",
		Short:   "Make a private key and the certificate request (CSR) for it",
		Long: `Makes a new private key and a certificate request (CSR) for the names that clients use,
and checks the request by the same rules as "nurvik audit" before anything is written.
A request with a finding at or above --fail-from is not written (status 1).

The key is written with mode 0600 as NAME.key, the request as NAME.csr. Nothing that
exists is replaced, and the key is never shown. With --encrypt the key is encrypted.

--like takes names, subject and kind of key from a certificate, a request or an endpoint;
the key itself is always new. Other flags change or add to that. --plan makes many at
once from a file; see docs/draft-plan.md.`,
		Example: `  nurvik draft --name tides.tarnholm.example --name www.tides.tarnholm.example
  nurvik draft --like tides.tarnholm.example --name ebb.tarnholm.example --out /etc/ssl/new
  nurvik draft --plan renewals.yaml --out /etc/ssl/new --encrypt --new-password-file secret.txt`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.draft(cmd.Context(), f, cmd.Flags())
		},
	}
	a.addOutput(cmd)
	a.addMaterial(cmd, &f.material)
	f.addVisits(cmd.Flags())
	flags := cmd.Flags()
	flags.StringArrayVar(&f.names, "name", nil,
		"ask for this `NAME`: a host name, a wildcard such as *.tarnholm.example, or an address; repeat for more")
	flags.StringVar(&f.key, "key", "", "make a key of this `KIND`: "+strings.Join(kinds, ", ")+" (default "+
		string(draft.DefaultKey)+")")
	for _, s := range []struct {
		name, help string
		value      *string
	}{
		{"country", "two-letter `CODE` of the country in the subject", &f.subject.Country},
		{"state", "`STATE` or province in the subject", &f.subject.State},
		{"locality", "`CITY` in the subject", &f.subject.Locality},
		{"organisation", "`ORGANISATION` in the subject", &f.subject.Organisation},
		{"unit", "`UNIT` of the organisation in the subject", &f.subject.Unit},
		{"common-name", "common `NAME` in the subject (default the first --name). Clients ignore it",
			&f.subject.CommonName},
		{"email", "mail `ADDRESS` in the subject", &f.subject.Email},
	} {
		flags.StringVar(s.value, s.name, "", s.help)
	}
	flags.BoolVar(&f.staple, "require-staple", false, "ask that clients require a stapled OCSP response (RFC 7633)")
	flags.StringVar(&f.template, "template", "", "ask for the certificate template of this `NAME`, for a CA of a Windows domain")
	flags.StringVar(&f.like, "like", "", "ask for what this `PATH|ENDPOINT` has")
	flags.StringVar(&f.plan, "plan", "", "make the requests of the plan in `FILE`")
	flags.StringVar(&f.into.directory, "out", ".", "write into this `DIRECTORY`")
	flags.StringVar(&f.into.file, "file", "", "`BASE` of the names of the files (default the first name)")
	flags.BoolVar(&f.encrypt, "encrypt", false, "encrypt the private key with a password")
	f.password.add(cmd, "the private key")
	flags.StringVar(&f.failFrom, "fail-from", "fault", "do not write a request with findings from this `SEVERITY` on: fault, "+
		"risk, note or never")
	_ = flags.MarkHidden("estate")
	_ = cmd.RegisterFlagCompletionFunc("key", cobra.FixedCompletions(kinds, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}

func (a *app) draft(ctx context.Context, f *draftFlags, flags *pflag.FlagSet) error {
	var drafts []draft.Named
	var err error
	switch single := f.like != "" || len(f.names) > 0; {
	case f.plan != "" && (single || f.into.file != "" || flags.Changed("key") || f.subject != draft.Subject{}):
		return usage(errors.New("--plan says everything; leave out --name, --like, --key, --file and the subject"))
	case f.plan != "":
		drafts, err = a.planned(f.plan)
	case single:
		var w draft.Wish
		if w, err = a.wish(ctx, f); err == nil {
			drafts = []draft.Named{{Wish: w, File: f.into.file}}
		}
	default:
		return usage(errors.New("say what to ask for, with --name, --like or --plan"))
	}
	if err != nil {
		return err
	}
	if f.password.file != "" && !f.encrypt {
		return usage(errors.New("--new-password-file goes with --encrypt"))
	}
	var secret []byte
	if f.encrypt {
		if secret, err = a.newPassword(&f.password, "the private key"); err != nil {
			return err
		}
	}
	result, err := a.makeDrafts(ctx, drafts, f.into.directory, secret, f.failFrom)
	if err != nil {
		return err
	}
	if err := a.write(report.DraftsDocument(result)); err != nil {
		return err
	}
	return unwritten(result)
}

// unwritten is the error where nothing was written for a finding.
func unwritten(d *report.Drafts) error {
	if d.Refused {
		return &statusError{statusFindings,
			errors.New("nothing was written; change the request, or say --fail-from never")}
	}
	return nil
}

// planned reads the plan.
func (a *app) planned(path string) ([]draft.Named, error) {
	data, err := inputfile.Read(path)
	if err != nil {
		return nil, usage(fmt.Errorf("--plan: %w", err))
	}
	drafts, err := draft.ParsePlan(path, data)
	if err != nil {
		return nil, usage(err)
	}
	return drafts, nil
}

// wish is what the flags ask for.
func (a *app) wish(ctx context.Context, f *draftFlags) (draft.Wish, error) {
	var w draft.Wish
	if f.like != "" {
		var note string
		var err error
		if w, note, err = a.likeness(ctx, f); err != nil {
			return w, err
		}
		if note != "" && f.key == "" {
			fmt.Fprintln(a.stderr, "nurvik: "+note)
		}
	}
	w.Names = append(w.Names, f.names...)
	if f.key != "" {
		w.Key = draft.KeyKind(f.key)
	}
	f.subject.Apply(&w)
	w.Staple, w.Template = f.staple, f.template
	if err := w.Settle(); err != nil {
		return w, usage(err)
	}
	return w, nil
}

// likeness is the wish for what is at the path or endpoint.
func (a *app) likeness(ctx context.Context, f *draftFlags) (w draft.Wish, note string, err error) {
	f.request.Targets, f.request.Stdin = []string{f.like}, a.stdin
	failFrom := f.failFrom
	defer func() { f.failFrom = failFrom }()
	u, err := a.understand(&f.targetFlags)
	if err != nil {
		return w, "", err
	}
	plan, err := a.planOf(ctx, &f.request, &f.material)
	if err != nil {
		return w, "", err
	}
	options, finish, err := a.visits(&f.targetFlags, u, plan)
	if err != nil {
		return w, "", err
	}
	leaves, unexamined := plan.Leaves(ctx, options)
	finish()
	different := map[pki.Fingerprint]*pki.Certificate{}
	for _, l := range leaves {
		different[l.Certificate.Fingerprint()] = l.Certificate
	}
	requests := requestsIn(plan.Files())
	switch {
	case len(different) > 1, len(different) == 0 && len(requests) > 1:
		return w, "", usage(fmt.Errorf("--like: %s has %d certificates and %d requests; name a file with one", f.like,
			len(different), len(requests)))
	case len(different) == 1:
		w, note = draft.Like(leaves[0].Certificate)
		return w, note, nil
	case len(requests) == 1:
		w, note = draft.LikeRequest(requests[0])
		return w, note, nil
	}
	for _, u := range unexamined {
		return w, "", fmt.Errorf("--like: %s", u)
	}
	return w, "", fmt.Errorf("--like: %s has neither a server's certificate nor a request", f.like)
}

func requestsIn(files []facts.File) []*pki.Request {
	var out []*pki.Request
	seen := map[pki.Fingerprint]bool{}
	for _, f := range files {
		for _, item := range f.Items {
			if id := pki.FingerprintOf(item.DER); item.Kind == facts.Request && !seen[id] {
				seen[id] = true
				if r, err := pki.ParseRequest(item.DER); err == nil {
					out = append(out, r)
				}
			}
		}
	}
	return out
}

// makeDrafts makes keys and requests, judges the requests, and writes all of them or none.
func (a *app) makeDrafts(ctx context.Context, drafts []draft.Named, directory string, secret []byte,
	failFrom string) (*report.Drafts, error) {
	limit, never, err := parseFailFrom(failFrom)
	if err != nil {
		return nil, usage(err)
	}
	if info, err := os.Stat(directory); err != nil || !info.IsDir() {
		return nil, usage(fmt.Errorf("%s is no directory", directory))
	}
	result := &report.Drafts{}
	var files []outfile.File
	show, finish := a.progress(len(drafts), "keys")
	for i, d := range drafts {
		if ctx.Err() != nil {
			finish()
			return nil, &statusError{statusUnexamined, errors.New("interrupted; nothing was written")}
		}
		made, written, err := a.makeDraft(d, directory, secret)
		if err != nil {
			finish()
			return nil, err
		}
		result.Drafts, files = append(result.Drafts, made), append(files, written...)
		if show != nil {
			show(i+1, len(drafts))
		}
	}
	finish()
	result.Refused = !never && slices.ContainsFunc(result.Drafts, func(d report.Draft) bool {
		return judge.Reach(d.Findings, limit)
	})
	if !result.Refused {
		if err := outfile.Write(false, files...); errors.Is(err, outfile.ErrExists) {
			return nil, usage(fmt.Errorf(
				"nothing was written: %w, and keys and requests are never replaced; choose another "+
					"--file or --out", err))
		} else if err != nil {
			return nil, fmt.Errorf("nothing was written: %w", err)
		}
	}
	return result, nil
}

// makeDraft makes a key and its request.
func (a *app) makeDraft(d draft.Named, directory string, secret []byte) (report.Draft, []outfile.File, error) {
	key, err := draft.NewKey(d.Key, rand.Reader)
	if err != nil {
		return report.Draft{}, nil, err
	}
	der, err := d.Request(key, rand.Reader)
	if err != nil {
		return report.Draft{}, nil, err
	}
	encoded, err := draft.EncodeKey(key, secret)
	if err != nil {
		return report.Draft{}, nil, err
	}
	base := d.File
	if base == "" {
		base = draft.FileName(d.Names[0])
	} else if filepath.Base(base) != base || base == "." || base == ".." {
		return report.Draft{}, nil, usage(fmt.Errorf("%q is no name of a file", base))
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der})
	files := []outfile.File{{Path: filepath.Join(directory, base+".key"), Data: encoded, Mode: 0o600},
		{Path: filepath.Join(directory, base+".csr"), Data: text, Mode: 0o644}}
	request, err := pki.ParseRequest(der)
	if err != nil {
		return report.Draft{}, nil, fmt.Errorf("read back the request: %w", err)
	}
	return report.Draft{Key: files[0].Path, Request: files[1].Path, Encrypted: secret != nil,
		Summary: request.Summary(),
		Subject: request.Subject.String(), PEM: string(text), Findings: a.judgeRequest(der, d.Names)}, files, nil
}

// judgeRequest judges a request as "nurvik audit" does.
func (a *app) judgeRequest(der []byte, names []string) []judge.Finding {
	expected := assess.Expectation{Policy: policy.Open()}
	for _, name := range names {
		if r, err := naming.Parse(name); err == nil { // no wildcard, which nobody types
			expected.Names = append(expected.Names, r)
		}
	}
	engine := assess.New(assess.Options{At: a.now(), Material: true, Report: a.report})
	file := facts.File{Schema: facts.Schema, Path: "request", Items: []facts.Item{{Kind: facts.Request, DER: der}}}
	return engine.Alone([]facts.File{file}, expected)[0].Findings
}
