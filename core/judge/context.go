package judge

import (
	"context"
	"fmt"
	"math/big"
	"slices"
	"sync"
	"time"

	"nurvik/core/brief"
	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/keycheck"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/rescue"
	"nurvik/core/trust"
)

// Context is what facts are judged by. It is read only and may be shared.
// Package assess puts it together.
type Context struct {
	Policy    policy.Policy
	Names     []naming.Reference // that must be covered; for endpoints, none means the endpoint's own
	Purpose   Purpose            // of the certificates in files; "" is found out for each
	Trust     []*trust.Store     // alternatives: one valid path is enough
	Audiences []*trust.Store     // each must accept
	Anchors   *trust.Store       // every anchor known, of all stores; nil for those above only
	Known     *chain.Pool        // certificates that may be borrowed to complete a path
	Verifier  *chain.Verifier    // remembers signatures from target to target; nil for none
	Memory    *brief.Memory      // of what was decoded; nil for none
	At        time.Time
	Heap      bool                         // a file is one heap: without a leaf the lowest authorities are judged
	Bundles   bool                         // carry the right bundle even where nothing is to be repaired
	Bare      bool                         // leave chains and certificates out of the judgements of files
	Distrust  map[pki.Fingerprint]bool     // certificates or keys that are not to be trusted, for asking what if
	Material  bool                         // judge files as material only: form, keys and pairs, no chains
	Shared    map[pki.Fingerprint]*big.Int // prime factors that keys share with others, by PublicKey.Match
	Lists     map[string][]List            // CRLs in files, by the key of their issuer, the newest first
	Unordered bool                         // a heap came from where files have no order
	Issuers   map[string][]string          // the names in CAA records by which CAs go, by common name or organisation
	Report    rescue.Report                // takes defects of the judging itself to the log; nil drops them
	Run       context.Context              // judging ends with it, for what is left without a verdict; nil for never

	budget     *chain.Budget              // of the target under judgement
	revocation []facts.Revocation         // of the target under judgement
	local      []facts.Revocation         // what the lists in files say of it
	revoked    map[pki.Fingerprint]string // what is revoked as of At

	weak      *sync.Map           // weaknesses of RSA keys, by PublicKey.Match
	described *sync.Map           // descriptions of CAs, which come with every endpoint; nil remembers none
	anchors   func() *trust.Store // every anchor known
	usual     *Basis              // of judgements on facts of this version, which share it
	rehearsal func() *trust.Store // those for rehearsal
}

// Purpose is what certificates in files are to be used for.
type Purpose string

// The purposes.
const (
	ForServers Purpose = "server"
	ForClients Purpose = "client"
	ForMail    Purpose = "mail"
	ForAny     Purpose = "any"
)

// purposes are the usages that a path must allow (RFC 5280, 4.2.1.12).
var purposes = map[Purpose]pki.OID{ForServers: pki.UsageServerAuth, ForClients: pki.UsageClientAuth,
	ForMail: pki.UsageMailProtection, ForAny: ""}

// ParsePurpose reads a purpose; "" is none.
func ParsePurpose(text string) (Purpose, error) {
	if _, known := purposes[Purpose(text)]; !known && text != "" {
		return "", fmt.Errorf("a purpose is server, client, mail or any, not %q", text)
	}
	return Purpose(text), nil
}

// List is a CRL that lies beside the certificates, in a file.
type List struct {
	Path string
	*pki.RevocationList
}

// SortLists puts lists in the order in which they are asked, the newest first.
func SortLists(lists []List) {
	slices.SortStableFunc(lists, func(a, b List) int { return b.ThisUpdate.Compare(a.ThisUpdate) })
}

// ready fills in what may be left out, and prepares what only some findings need.
func (c *Context) ready() {
	if c.Verifier == nil {
		c.Verifier = &chain.Verifier{}
	}
	if c.anchors != nil { // a copy of one that is ready
		return
	}
	if c.weak == nil {
		c.weak = &sync.Map{}
	}
	c.usual = c.basis(facts.Schema)
	all := slices.Concat(c.Trust, c.Audiences)
	if c.Anchors != nil {
		all = append(all, c.Anchors)
	}
	c.anchors = sync.OnceValue(func() *trust.Store { return trust.Merge("all", all...) })
	c.rehearsal = sync.OnceValue(func() *trust.Store { return c.anchors().OfKind(trust.Rehearsal) })
}

// Share makes the memory that copies of the context have in common, whatever they expect.
func (c *Context) Share() {
	if c.Verifier == nil {
		c.Verifier = &chain.Verifier{}
	}
	c.weak, c.described = &sync.Map{}, &sync.Map{}
}

// stores are the alternatives: the audiences themselves where nothing else is named.
func (c *Context) stores() []*trust.Store {
	if len(c.Trust) > 0 {
		return c.Trust
	}
	return c.Audiences
}

// certificate decodes one, unless it is known: those of CAs come with every endpoint.
func (c *Context) certificate(der []byte) (*pki.Certificate, error) {
	if known := c.Known.Held(pki.FingerprintOf(der)); known != nil {
		return known, nil
	}
	return pki.ParseCertificate(der)
}

// over reports whether nothing more is to be judged.
func (c *Context) over() bool { return c.Run != nil && c.Run.Err() != nil }

// begin gives the target that is judged next a budget of its own.
func (c *Context) begin() { c.budget = chain.NewBudget(c.Run) }

// learn takes in what was fetched and what is known to be revoked. words says
// what is known of a revocation.
func (c *Context) learn(fetched []facts.Fetched, revocation []facts.Revocation, words func(facts.Revocation) string) {
	var more []*pki.Certificate
	for _, f := range fetched {
		for _, der := range f.Certificates {
			if x, err := pki.ParseCertificate(der); err == nil {
				more = append(more, x)
			}
		}
	}
	if len(more) > 0 {
		c.Known = c.Known.With(more)
	}
	for _, r := range revocation {
		if revokedAt(r, c.At) {
			if c.revoked == nil {
				c.revoked = map[pki.Fingerprint]string{}
			}
			c.revoked[r.Certificate] = words(r)
		}
	}
	c.revocation = revocation
}

// revokedAt reports whether the certificate counts as revoked at the time.
func revokedAt(r facts.Revocation, at time.Time) bool {
	return r.Status == facts.RevocationRevoked && r.RevokedAt != nil && !r.RevokedAt.After(at)
}

// weaknesses remembers results: the key of a certificate is in a file of its
// own, in a request and in keystores too.
func (c *Context) weaknesses(key pki.PublicKey, id pki.Fingerprint) []keycheck.Finding {
	if key.N == nil {
		return nil
	}
	if known, ok := c.weak.Load(id); ok {
		found, _ := known.([]keycheck.Finding)
		return found
	}
	found := keycheck.Weaknesses(key)
	c.weak.Store(id, found)
	return found
}

// Basis says what a judgement was made with: the same basis, facts, trust and
// time give the same judgement.
type Basis struct {
	At            time.Time `json:"at" doc:"Judged as of this time"`
	Facts         string    `json:"facts" doc:"Schema of the facts"`
	Policy        string    `json:"policy"`
	PolicyVersion int       `json:"policy_version,omitempty" doc:"Of a policy that the service keeps; none for built-in ones and files"`
	Catalogue     string    `json:"catalogue" doc:"Version of the catalogue of findings"`
}

// basis is shared between judgements where it can be: there may be very many.
func (c *Context) basis(schema string) *Basis {
	b := Basis{At: c.At.UTC().Truncate(time.Second), Facts: schema, Policy: c.Policy.Name,
		PolicyVersion: c.Policy.Version, Catalogue: CatalogueVersion()}
	if c.usual != nil && *c.usual == b {
		return c.usual
	}
	out := new(Basis)
	*out = b
	return out
}
