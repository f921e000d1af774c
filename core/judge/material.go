package judge

import (
	"fmt"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// material is what one file holds, decoded.
type material struct {
	file         *facts.File
	context      *Context
	pieces       []piece
	certificates []*pki.Certificate // that may be part of a chain; empty where material alone is judged
	anchors      bool               // it holds trust anchors: certificates of CAs and nothing else, or nearly so
}

// piece is one item of a file with what was decoded of it.
type piece struct {
	item  *facts.Item
	brief *pki.Brief
	err   error // why a certificate or request could not be read; facts of another version may hold such
}

// open decodes what a file holds. It changes nothing of the file and the
// context, so that many files can share them.
func open(file *facts.File, context *Context) *material {
	m := &material{file: file, context: context, pieces: make([]piece, len(file.Items))}
	authorities, roots := 0, 0
	for i := range file.Items {
		p := &m.pieces[i]
		p.item = &file.Items[i]
		switch p.item.Kind {
		case facts.Certificate:
			if context.Material {
				p.know(context)
			} else {
				m.decode(p)
			}
		case facts.Request:
			p.know(context)
		default:
			p.brief = context.Memory.Of(p.item)
		}
		if p.item.Kind == facts.Certificate && p.brief != nil {
			authorities += count(p.brief.CA && !(p.brief.SelfIssued && len(p.brief.Names) > 0))
			roots += count(p.brief.SelfIssued)
		}
	}
	most := func(n int) bool { return n*10 >= len(m.pieces)*9 }
	m.anchors = len(m.pieces) > 0 && authorities == len(m.pieces) ||
		len(m.pieces) >= storeSize && most(authorities) && most(roots)
	m.certificates = slices.DeleteFunc(m.certificates, func(c *pki.Certificate) bool {
		return m.anchors && !c.IsCA() && c.SelfIssued()
	})
	return m
}

// know finds out what is known of a certificate or request, or why nothing is.
func (p *piece) know(context *Context) {
	if p.brief = p.item.Learnt(); p.brief != nil {
		return
	}
	if p.item.Kind == facts.Request {
		_, p.brief, p.err = context.Memory.Request(p.item.DER)
		return
	}
	_, p.brief, p.err = context.Memory.Certificate(p.item.DER)
}

// decode decodes a certificate whole, for chains.
func (m *material) decode(p *piece) {
	c, err := pki.ParseCertificate(p.item.DER)
	if p.err = err; err != nil {
		return
	}
	p.brief = c.Brief()
	if !p.item.Trusted { // an anchor in a keystore is no part of a chain
		m.certificates = append(m.certificates, c)
	}
}

// storeSize is from how many certificates on a file of roots is taken for a
// trust store, even if some are so old that they do not say they are CAs.
const storeSize = 10

func count(is bool) int {
	if is {
		return 1
	}
	return 0
}

// unordered reports whether the file gives its certificates no order, as a
// PKCS#7 does, whose certificates are a SET (RFC 5652, 5.1), and a keystore, which
// has entries; so has a heap from a directory or an archive.
func (m *material) unordered() bool {
	return m.context.Unordered || slices.ContainsFunc(m.file.Items, func(item facts.Item) bool {
		return item.Kind == facts.Certificate && item.Container != ""
	})
}

// isAnchor reports whether the piece is a trust anchor by its place: a
// self-issued certificate that a keystore marks so, or in a file of CAs.
func (m *material) isAnchor(p *piece) bool {
	return p.item.Kind == facts.Certificate && p.brief != nil && p.brief.SelfIssued && (p.item.Trusted || m.anchors)
}

// damaged reports whether something in the file could not be read.
func (m *material) damaged() bool {
	for _, d := range m.file.Defects {
		if d.Kind == facts.Damaged {
			return true
		}
	}
	for i := range m.pieces {
		if m.pieces[i].err != nil {
			return true
		}
	}
	return stays(*m.file, facts.DamagedInside)
}

// place is where in its file the piece is.
func (p *piece) place() string { return at(p.item.Line, p.item.Offset) }

// located finishes findings that are about this piece.
func (p *piece) located(findings []Finding) []Finding {
	for i := range findings {
		findings[i].Evidence.Line, findings[i].Evidence.Offset = p.item.Line, &p.item.Offset
	}
	return findings
}

// lockedWords say why something stayed closed, and what to do: a wrong
// password, damage and a protection that is not supported are different things.
var lockedWords = map[string]string{
	facts.NoPassword:    "needs a password, and none was given",
	facts.WrongPassword: "was not opened: the password is wrong",
	facts.Unsupported:   "was not opened: its protection is not supported",
	facts.TooCostly:     "was not opened: deriving the key from the password takes more rounds than the limit allows",
	facts.DamagedInside: "was not opened: it is damaged",
}

// Locked says why something in the file stayed closed: the reason, and a
// sentence; both empty when nothing did.
func Locked(file facts.File) (reason, sentence string) {
	for _, item := range file.Items {
		what := "The keystore"
		if item.Container == "zip" {
			what = "The entry of the archive"
		}
		reason = item.Locked
		if item.Key != nil && item.Key.Locked != "" {
			reason, what = item.Key.Locked, "The private key at "+at(item.Line, item.Offset)
			if item.Container != "" {
				what = fmt.Sprintf("The private key %q in the %s keystore", item.Alias, item.Container)
			}
		}
		if reason == "" {
			continue
		}
		if reason == facts.Unsupported && item.Detail != nil {
			return reason, what + " was not opened: " + words.Of(*item.Detail) + "."
		}
		text := what + " " + lockedWords[reason]
		if item.Key != nil && item.Key.Protection != "" {
			text += " (" + item.Key.Protection + ")"
		}
		return reason, text + "."
	}
	return "", ""
}

func stays(file facts.File, reason string) bool {
	got, _ := Locked(file)
	return got == reason
}
