package draft

import (
	"crypto"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"

	"nurvik/core/naming"
	"nurvik/core/pki"
)

// Wish is what a certificate is asked for.
type Wish struct {
	Names      []string // host names, wildcards and addresses; the first names the files too
	Subject    []Field  // in order
	Key        KeyKind
	Staple     bool            // a stapled OCSP response is to be required (RFC 7633)
	Template   string          // name of the template that the CA of a Windows domain issues by
	Extensions []pki.Extension // further ones, as they are
}

// Field is one attribute of the subject.
type Field struct {
	Type  pki.OID
	Value string
}

// Identifiers of the attributes that people fill in (X.520; RFC 2985, 5.2.1), in the order in which they are written.
const (
	Country      pki.OID = "2.5.4.6"
	State        pki.OID = "2.5.4.8"
	Locality     pki.OID = "2.5.4.7"
	Organisation pki.OID = "2.5.4.10"
	Unit         pki.OID = "2.5.4.11"
	CommonName   pki.OID = "2.5.4.3"
	Email        pki.OID = "1.2.840.113549.1.9.1"
)

// order of the attributes in a subject.
var order = []pki.OID{Country, State, Locality, Organisation, Unit, CommonName, Email}

// Set sets the value of an attribute; an empty one takes it out.
func (w *Wish) Set(attribute pki.OID, value string) {
	w.Subject = slices.DeleteFunc(w.Subject, func(f Field) bool { return f.Type == attribute })
	if value == "" {
		return
	}
	rank := func(id pki.OID) int {
		if i := slices.Index(order, id); i >= 0 {
			return i
		}
		return len(order)
	}
	at := slices.IndexFunc(w.Subject, func(f Field) bool { return rank(f.Type) > rank(attribute) })
	if at < 0 {
		at = len(w.Subject)
	}
	w.Subject = slices.Insert(w.Subject, at, Field{attribute, value})
}

// longestCommonName is the upper bound of RFC 5280, appendix A.1.
const longestCommonName = 64

// Settle checks the names, writes them in the form of certificates, and fills in what is not given.
func (w *Wish) Settle() error {
	if len(w.Names) == 0 {
		return errors.New("no name is wanted; give at least one that clients will use")
	}
	var names []string
	for _, name := range w.Names {
		canonical, err := entryOf(name)
		if err != nil {
			return err
		}
		if !slices.Contains(names, canonical) {
			names = append(names, canonical)
		}
	}
	w.Names = names
	kind, err := ParseKeyKind(string(w.Key))
	if err != nil {
		return err
	}
	w.Key = kind
	named := slices.ContainsFunc(w.Subject, func(f Field) bool { return f.Type == CommonName })
	if first := names[0]; !named && len(first) <= longestCommonName {
		w.Set(CommonName, first) // clients ignore it, and many issuers ask for it
	}
	return nil
}

// entryOf is a name as it is written in a certificate: A-labels, in lower case.
func entryOf(name string) (string, error) {
	rest, wild := strings.CutPrefix(name, "*.")
	r, err := naming.Parse(rest)
	var wrong *naming.NotANameError
	switch {
	case errors.As(err, &wrong):
		return "", &naming.NotANameError{Name: name, Reason: wrong.Reason}
	case err != nil:
		return "", err
	case wild && r.IsAddress():
		return "", &naming.NotANameError{Name: name, Reason: "an address has no wildcard"}
	case wild:
		return "*." + r.String(), nil
	}
	return r.String(), nil
}

// Like is the wish for another certificate like this one: its names, subject and kind of key. The key itself is never
// used again. Keys of a kind that is not made become the default, which is told.
func Like(c *pki.Certificate) (w Wish, note string) {
	w, note = like(c.Subject, c.PublicKey, c)
	w.Extensions = slices.DeleteFunc(slices.Clone(c.Extensions),
		func(x pki.Extension) bool { return x.ID != oidFeatures })
	return w, note
}

// LikeRequest is the wish for what an earlier request asked for.
func LikeRequest(r *pki.Request) (w Wish, note string) {
	w, note = like(r.Subject, r.PublicKey, r.Wanted)
	w.Extensions = slices.DeleteFunc(slices.Clone(r.Wanted.Extensions), func(x pki.Extension) bool {
		return x.ID == "2.5.29.17" || x.ID == "2.5.29.14" // names, and the identifier of the old key
	})
	return w, note
}

func like(subject pki.Name, key pki.PublicKey, extensions *pki.Certificate) (w Wish, note string) {
	for _, component := range subject.Components {
		for _, a := range component {
			w.Subject = append(w.Subject, Field{a.Type, a.Value})
		}
	}
	w.Names = extensions.HostNames()
	kind, made := KindOf(key)
	if w.Key = kind; !made {
		w.Key = DefaultKey
		note = fmt.Sprintf("keys like the old one (%s) are not made; this one is %s", key, DefaultKey)
	}
	return w, note
}

// oidFeatures is the TLS feature extension (RFC 7633).
const oidFeatures pki.OID = "1.3.6.1.5.5.7.1.24"

var (
	idFeatures = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}
	idTemplate = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 311, 20, 2}
)

// Request makes the request (DER) for a settled wish, signed with the key by SHA-256 or better.
func (w *Wish) Request(key crypto.Signer, random io.Reader) ([]byte, error) {
	subject, err := w.subject()
	if err != nil {
		return nil, err
	}
	template := &x509.CertificateRequest{RawSubject: subject}
	for _, name := range w.Names {
		if address, err := netip.ParseAddr(name); err == nil {
			template.IPAddresses = append(template.IPAddresses, address.AsSlice())
		} else {
			template.DNSNames = append(template.DNSNames, name)
		}
	}
	for _, x := range w.Extensions {
		if w.Staple && x.ID == oidFeatures {
			continue
		}
		arcs, err := identifier(x.ID)
		if err != nil {
			return nil, err
		}
		template.ExtraExtensions = append(template.ExtraExtensions,
			pkix.Extension{Id: arcs, Critical: x.Critical, Value: x.Value})
	}
	if w.Staple {
		value, err := asn1.Marshal([]int{5})
		if err != nil {
			return nil, err
		}
		template.ExtraExtensions = append(template.ExtraExtensions, pkix.Extension{Id: idFeatures, Value: value})
	}
	if w.Template != "" {
		value, err := bmpString(w.Template)
		if err != nil {
			return nil, err
		}
		template.ExtraExtensions = append(template.ExtraExtensions, pkix.Extension{Id: idTemplate, Value: value})
	}
	der, err := x509.CreateCertificateRequest(random, template, key)
	if err != nil {
		return nil, fmt.Errorf("make the request: %w", err)
	}
	return der, nil
}
