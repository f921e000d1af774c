// Package inventory says in words what each piece of material is: in one line,
// and field by field.
package inventory

import (
	"strings"

	"nurvik/core/brief"
	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// Entry is one piece of material in words.
type Entry struct {
	Kind facts.ItemKind `json:"kind"`
	What string         `json:"what" doc:"In words, such as CA certificate"`
	facts.Place
	Container string `json:"container,omitempty"`
	Alias     string `json:"alias,omitempty"`
	pki.Summary
	Remarks   []string      `json:"remarks,omitempty" doc:"What has to be known beside: locked, not checked, does not verify"`
	Fields    []Field       `json:"fields,omitempty" doc:"Everything in it, where that was asked for"`
	Anomalies []pki.Anomaly `json:"anomalies,omitempty" doc:"What breaks the encoding rules or RFC 5280, with offsets in the DER"`
}

// Field is one part of a certificate, request, list or key.
type Field struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
	Offset int      `json:"offset,omitempty" doc:"Of extensions: in bytes from the start of the DER"`
}

// Of describes an item; with its fields where these are wanted, which are decoded anew. The memory may be nil.
func Of(item *facts.Item, memory *brief.Memory, fields bool) Entry {
	e := Entry{Kind: item.Kind, Place: item.Place, Container: item.Container, Alias: pki.Printable(item.Alias)}
	var parts []Field
	if b := memory.Of(item); b != nil && !fields {
		e.brief(item, b)
		return e.beside(item)
	}
	switch item.Kind {
	case facts.Certificate:
		parts = e.certificate(*item)
	case facts.Request:
		parts = e.request(*item)
	case facts.RevocationList:
		parts = e.revocationList(*item)
	case facts.PublicKey:
		e.What = "public key"
		if k, err := pki.ParsePublicKey(item.DER); err == nil {
			e.Summary = k.Summary()
			parts = keyFields(k)
		}
	case facts.PrivateKey:
		parts = e.privateKey(item.Key)
	case facts.Parameters:
		e.What, e.Label = "parameters", pki.DescribeParameters(item.DER)
	case facts.SecretKey:
		e.What = "secret key"
	case facts.Keystore:
		e.What = item.Container + " keystore"
		if item.Container == "zip" {
			e.What = "encrypted entry"
		}
		if item.Locked == "" && item.Detail != nil {
			e.Remarks = append(e.Remarks, words.Of(*item.Detail))
		}
	}
	if fields {
		e.Fields = parts
	}
	return e.beside(item)
}

// beside adds what has to be known of how the item lies in its file.
func (e Entry) beside(item *facts.Item) Entry {
	if item.Locked != "" {
		e.Remarks = append(e.Remarks, Locked[item.Locked])
	}
	if item.Unchecked && len(e.Remarks) == 0 {
		e.Remarks = append(e.Remarks, "integrity not checked")
	}
	return e
}

// brief describes an item of which the brief is known.
func (e *Entry) brief(item *facts.Item, b *pki.Brief) {
	e.Summary, e.Anomalies = b.Summary, b.Anomalies
	switch item.Kind {
	case facts.Certificate:
		e.What = certificateWord(b.CA, b.SelfIssued)
		if item.Trusted {
			e.Remarks = append(e.Remarks, "marked as trusted")
		}
	case facts.Request:
		e.What = "certificate request"
	case facts.PublicKey:
		e.What = "public key"
	case facts.PrivateKey:
		e.privateKeyBeside(item.Key)
	}
}

func certificateWord(ca, selfIssued bool) string {
	switch {
	case ca && selfIssued:
		return "root certificate"
	case ca:
		return "CA certificate"
	}
	return "certificate"
}

// Locked says why something stayed closed, by the reasons of the facts.
var Locked = map[string]string{
	facts.NoPassword:    "locked: it needs a password, and none was given",
	facts.WrongPassword: "locked: the password is wrong",
	facts.Unsupported:   "locked: its protection is not supported",
	facts.TooCostly:     "locked: deriving the key from the password costs more than the limit allows",
	facts.DamagedInside: "locked: it is damaged",
}

func (e *Entry) certificate(item facts.Item) []Field {
	e.What = "certificate"
	c, err := pki.ParseCertificate(item.DER)
	if err != nil {
		e.Remarks = append(e.Remarks, err.Error())
		return nil
	}
	e.What = certificateWord(c.IsCA(), c.SelfIssued())
	if item.Trusted {
		e.Remarks = append(e.Remarks, "marked as trusted")
	}
	e.Summary, e.Anomalies = c.Summary(), c.Anomalies
	return certificateFields(c)
}

func (e *Entry) request(item facts.Item) []Field {
	e.What = "certificate request"
	q, err := pki.ParseRequest(item.DER)
	if err != nil {
		e.Remarks = append(e.Remarks, err.Error())
		return nil
	}
	e.Summary, e.Anomalies = q.Summary(), q.Anomalies
	return requestFields(q)
}

func (e *Entry) revocationList(item facts.Item) []Field {
	e.What = "CRL"
	l, err := pki.ParseRevocationList(item.DER)
	if err != nil {
		e.Remarks = append(e.Remarks, err.Error())
		return nil
	}
	e.Summary, e.Anomalies = l.Summary(), l.Anomalies
	return listFields(l)
}

func (e *Entry) privateKey(key *facts.Key) []Field {
	e.Key = key.Type
	fields := []Field{field("structure", key.Structure)}
	if key.Protection != "" {
		fields = append(fields, field("protection", key.Protection))
	}
	if k, err := pki.ParsePublicKey(key.SPKI); err == nil {
		e.Summary = k.Summary()
		fields = append(fields, keyFields(k)...)
	} else if key.Locked == "" {
		e.Remarks = append(e.Remarks, "its public half cannot be computed here")
	}
	e.privateKeyBeside(key)
	return fields
}

// privateKeyBeside says what a private key is, and what has to be known beside.
func (e *Entry) privateKeyBeside(key *facts.Key) {
	e.What = "private key"
	if key.Encrypted {
		e.What = "encrypted private key"
	}
	if key.Locked != "" {
		e.Remarks = append(e.Remarks, Locked[key.Locked])
	}
	for _, problem := range key.Problems {
		e.Remarks = append(e.Remarks, "inconsistent: "+words.Of(problem))
	}
}

// Owners say whose the keys are: those of the certificate or request with the
// same public key, among what was read together.
type Owners map[pki.Fingerprint]string

// OwnersOf are the owners among the items of the files. The memory may be nil.
func OwnersOf(files []facts.File, memory *brief.Memory) Owners {
	keys := false
	for i := range files {
		for n := range files[i].Items {
			kind := files[i].Items[n].Kind
			keys = keys || kind == facts.PrivateKey || kind == facts.PublicKey
		}
	}
	owners := Owners{}
	for i := range files {
		for n := range files[i].Items {
			item := &files[i].Items[n]
			if !keys || item.Kind != facts.Certificate && item.Kind != facts.Request {
				continue
			}
			if b := memory.Of(item); b != nil && !b.SPKI.IsZero() && owners[b.SPKI] == "" {
				owners[b.SPKI] = b.Label
			}
		}
	}
	return owners
}

// Name sets the label of a key.
func (o Owners) Name(e *Entry) {
	if (e.Kind == facts.PrivateKey || e.Kind == facts.PublicKey) && !e.SPKI.IsZero() {
		e.Label = o[e.SPKI]
	}
}

// Where says where in its file the entry lies, in words.
func (e Entry) Where() string {
	var parts []string
	if e.Field != "" {
		parts = append(parts, e.Field)
	}
	if e.Alias != "" {
		parts = append(parts, "“"+e.Alias+"”")
	}
	return strings.Join(parts, " ")
}
