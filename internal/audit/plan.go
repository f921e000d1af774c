package audit

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"

	"nurvik/core/assess"
	"nurvik/core/brief"
	"nurvik/core/endpoint"
	"nurvik/core/facts"
	"nurvik/core/intake"
	"nurvik/core/judge"
	"nurvik/core/keystore"
	"nurvik/core/limits"
	"nurvik/core/naming"
	"nurvik/core/pbe"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/probe"
	"nurvik/core/rescue"
	"nurvik/core/trust"
	"nurvik/core/words"
	"nurvik/internal/estatefile"
	"nurvik/internal/outbound"
)

// Request is what the caller asks for.
type Request struct {
	Targets   []string
	Policy    string // by name or file; "" for those that the estate assigns, or else the default
	Names     []string
	VisitAt   []string
	Trust     []string
	Audiences []string
	Purpose   string          // of certificates in files: server, client, mail or any; "" is found out for each
	HTTPPort  uint16          // on which plain HTTP is looked for, for endpoints of the call
	Effort    facts.Effort    // "" for the usual
	Heap      bool            // the files are one heap, whose chains are asked about
	Networks  []string        // that issuers may be asked in, beside the public ones
	Stdin     io.Reader       // for the target "-"
	Passwords []string        // tried on everything that is protected
	Read      func(files int) // told how many files were read so far; may be nil
	Forget    bool            // of certificates in files only what was learnt is kept, not the bytes
	Estate    string          // an estate file that is obeyed beside the targets
	Servers   bool            // the configuration of servers is read too, where it is met
	Visits    bool            // the places that configuration names are visited
	Renewal   bool            // what the next renewal of the endpoints' certificates will meet is looked at
	Report    rescue.Report   // takes defects of the audit itself to the log; nil drops them
}

// Plan is a request that was understood: what to visit and what was read.
type Plan struct {
	visits         []visit
	files          []facts.File
	configurations []facts.Configuration
	places         []judge.Placed // of the configurations, that are visited
	sources        []facts.File   // that a heap was made of
	unordered      bool           // some of the heap came from a directory or an archive
	ofFiles        assess.Expectation
	anchors        []*trust.Store
	networks       []outbound.Network
	limits         limits.Limits // of the estate files
	resolver       *estatefile.Resolver
	heap           bool
	memory         *brief.Memory
	report         rescue.Report
	unexamined     []Unexamined
	linked         []string
	notes          []string
}

// visit is an endpoint with what is expected of it.
type visit struct {
	target   probe.Target
	expected assess.Expectation
}

// Policy is the policy that files, and endpoints without one of their own, are judged by.
func (p *Plan) Policy() policy.Policy { return p.ofFiles.Policy }

// Networks are those that issuers may be asked in, beside the public ones.
func (p *Plan) Networks() []outbound.Network { return p.networks }

// Notes are what the caller should know of how the call was understood.
func (p *Plan) Notes() []string { return p.notes }

// Limits of visits, as the estate files say.
func (p *Plan) Limits() limits.Limits { return p.limits }

// Resolver is the name server that an estate file names, nil for the system's.
func (p *Plan) Resolver() *estatefile.Resolver { return p.resolver }

// Configurations are those of the servers that were read.
func (p *Plan) Configurations() []facts.Configuration { return p.configurations }

// Unexamined are the targets, or parts of them, that could not be read.
func (p *Plan) Unexamined() []Unexamined { return p.unexamined }

// Files are the files that were read.
func (p *Plan) Files() []facts.File { return p.files }

// UsageError says that the request itself is wrong.
type UsageError struct{ Err error }

func (e *UsageError) Error() string { return e.Err.Error() }

// Unwrap returns the cause.
func (e *UsageError) Unwrap() error { return e.Err }

// planner carries the request while it is taken apart.
type planner struct {
	request  Request
	loader   *trust.Loader
	names    []naming.Reference
	visitAt  []endpoint.VisitAt
	policy   policy.Policy            // of the call, or the default
	policies map[string]policy.Policy // of the estate files
	defaults estatefile.Defaults      // of the estate files named
	stores   map[string]*trust.Store
	// the names in CAA records by which CAs go, as the estate files say
	caaIssuers map[string][]string
	reader     *intake.Reader
	finds      *Finds // of configuration; nil where none is looked for
	plan       Plan
}

// NewPlan reads files and estate files and finds out what each target is. The
// error is a *UsageError when the request is wrong; a trust store that cannot
// be read is an ordinary error.
// Files that were not read when the context ends count as not examined.
func NewPlan(ctx context.Context, r Request) (*Plan, error) {
	opener := keystore.Opener{Passwords: r.Passwords, Budget: &pbe.Budget{}}
	p := &planner{request: r, loader: &trust.Loader{Named: map[string]*trust.Store{}, Opener: opener},
		stores:   map[string]*trust.Store{},
		policies: map[string]policy.Policy{}, reader: &intake.Reader{Opener: opener,
			Memory: &brief.Memory{Forget: r.Forget},
			Report: r.Report}}
	p.plan.memory, p.plan.report = p.reader.Memory, r.Report
	if r.Servers {
		p.finds = &Finds{}
		p.reader.Look = p.finds.look
	}
	for _, name := range r.Names {
		reference, err := naming.Parse(name)
		if err != nil {
			return nil, &UsageError{err}
		}
		p.names = append(p.names, reference)
	}
	for _, text := range r.VisitAt {
		at, err := endpoint.ParseVisitAt(text)
		if err != nil {
			return nil, &UsageError{err}
		}
		p.visitAt = append(p.visitAt, at)
	}
	var err error
	if p.policy, err = LoadPolicy(r.Policy); err != nil {
		return nil, err
	}
	if p.plan.networks, err = outbound.ParseNetworks(r.Networks); err != nil {
		return nil, &UsageError{err}
	}
	estate, rest, err := p.sort()
	if err != nil {
		return nil, err
	}
	if estate != nil {
		if err := p.estate(estate); err != nil {
			return nil, err
		}
	}
	for _, target := range rest {
		if err := p.target(ctx, target); err != nil {
			return nil, err
		}
	}
	if err := p.configurations(); err != nil {
		return nil, err
	}
	if r.Renewal && len(p.plan.visits) == 0 {
		return nil, &UsageError{errors.New("--renewal looks at endpoints, and no endpoint is named")}
	}
	if len(p.visitAt) > 0 && len(p.plan.visits) == 0 {
		return nil, &UsageError{errors.New("--visit-at says where to visit an endpoint, and no endpoint is named")}
	}
	p.plan.anchors = p.allAnchors()
	p.plan.ofFiles.Names, p.plan.ofFiles.Policy = p.names, p.policy
	if p.plan.ofFiles.Purpose, err = judge.ParsePurpose(r.Purpose); err != nil {
		return nil, &UsageError{fmt.Errorf("--purpose: %w", err)}
	}
	if p.plan.heap = r.Heap; r.Heap {
		p.plan.pile()
	}
	return &p.plan, nil
}

// pile makes one file of the certificates of all, in the order of the call, and of what could not be read.
func (p *Plan) pile() {
	if len(p.files) == 0 {
		return
	}
	heap, several := facts.File{Schema: facts.Schema, Path: p.files[0].Path}, len(p.files) > 1
	if several {
		heap.Path = fmt.Sprintf("%s and %d more", p.files[0].Path, len(p.files)-1)
	}
	for _, f := range p.files {
		heap.Items = append(heap.Items, f.Certificates()...)
		p.unordered = p.unordered || f.Archive != ""
		for _, d := range f.Defects {
			if d.Kind == facts.Damaged { // what cannot be read may be just what a path lacks
				if several {
					d.Reason = facts.Because(facts.InFile, f.Path, words.Of(d.Reason))
				}
				heap.Defects = append(heap.Defects, d)
			}
		}
	}
	p.sources, p.files = p.files, []facts.File{heap}
}

// Knows reports whether a trust store holds a certificate or key of the fingerprint.
func (p *Plan) Knows(f pki.Fingerprint) bool {
	return slices.ContainsFunc(p.anchors, func(s *trust.Store) bool {
		return slices.ContainsFunc(s.Anchors, func(a trust.Anchor) bool {
			return a.Certificate.Fingerprint() == f || a.Certificate.PublicKey.Fingerprint() == f
		})
	})
}

// visitOf is what is to be visited for settings, and what is expected of it.
func (p *planner) visitOf(s endpoint.Settings) (visit, error) {
	target, err := probe.TargetOf(s, p.request.Effort)
	if err != nil {
		return visit{}, &UsageError{err}
	}
	v := visit{target: target, expected: assess.Expectation{Policy: p.policy, Names: s.References(),
		Authenticated: s.Authenticated, CAAIssuers: p.caaIssuers}}
	v.expected.Trust, v.expected.Audiences, err = p.load(s.Trust, s.Audiences)
	return v, err
}

func (p *planner) target(ctx context.Context, target string) error {
	trusted, audiences := orElse(p.request.Trust, p.defaults.Trust), orElse(p.request.Audiences, p.defaults.Audiences)
	stores, required, err := p.load(trusted, audiences)
	if err != nil {
		return err
	}
	source := &Source{Reader: p.reader, Stdin: p.request.Stdin, Progress: p.request.Read, Finds: p.finds}
	p.noteEstates(target)
	isFile, err := source.Add(ctx, target)
	if err != nil {
		return err
	}
	if isFile {
		if info, err := os.Stat(target); err == nil && info.IsDir() {
			p.plan.unordered = true
		}
		p.plan.files = append(p.plan.files, source.Files...)
		p.plan.ofFiles.Trust, p.plan.ofFiles.Audiences = stores, required
		p.plan.unexamined = append(p.plan.unexamined, source.Unexamined...)
		p.plan.linked = append(p.plan.linked, source.Linked...)
		return nil
	}
	settings := endpoint.Settings{Endpoint: target, VisitAt: p.request.VisitAt, HTTPPort: p.request.HTTPPort,
		Trust: trusted, Audiences: audiences}
	for _, name := range p.names {
		settings.Names = append(settings.Names, name.String())
	}
	if defects := settings.Settle(endpoint.Known{}); len(defects) > 0 {
		return &UsageError{fmt.Errorf("%w; a file of this name does not exist either", defects[0].Err)}
	}
	if near := mistyped(target); near != "" {
		return &UsageError{fmt.Errorf("there is no file %s; %s may be meant. To visit a host of that name, write %s",
			target, near, settings.Endpoint)}
	}
	if endsAsFile(target) {
		return &UsageError{fmt.Errorf("there is no file %s. To visit a host of that name, write %s", target,
			settings.Endpoint)}
	}
	v, err := p.visitOf(settings)
	p.plan.visits = append(p.plan.visits, v)
	return err
}

// load loads stores by their texts; with neither kind named it is the system's.
func (p *planner) load(trusted, audiences []string) (stores, required []*trust.Store, err error) {
	if len(trusted)+len(audiences) == 0 {
		trusted = []string{trust.SystemName}
	}
	for _, list := range []struct {
		texts []string
		into  *[]*trust.Store
	}{{trusted, &stores}, {audiences, &required}} {
		for _, text := range list.texts {
			s, ok := p.stores[text]
			if !ok {
				if s, err = p.loader.Load(text); err != nil {
					return nil, nil, err
				}
				p.stores[text] = s
			}
			*list.into = append(*list.into, s)
		}
	}
	return stores, required, nil
}

// allAnchors are the stores, in the order of their names.
func (p *planner) allAnchors() []*trust.Store {
	var all []*trust.Store
	for _, name := range slices.Sorted(maps.Keys(p.stores)) {
		all = append(all, p.stores[name])
	}
	return all
}

func orElse(first, second []string) []string {
	if len(first) > 0 {
		return first
	}
	return second
}

// LoadPolicy is the policy of the name, or of the file at the path, which then
// holds for every endpoint; without either it is the default, and the
// opportunistic one where clients verify nothing.
func LoadPolicy(text string) (policy.Policy, error) {
	if text == "" {
		return policy.Open(), nil
	}
	p, err := policy.Load(text)
	if err == nil {
		err = judge.CheckPolicy(p)
	}
	if err != nil {
		return p, &UsageError{fmt.Errorf("--policy: %w", err)}
	}
	p.Chosen = true
	return p, nil
}
