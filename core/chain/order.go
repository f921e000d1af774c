package chain

import (
	"slices"

	"nurvik/core/pki"
)

// Order compares the order given with the right one.
type Order struct {
	LeafFirst bool // the leaf is the first certificate
	InOrder   bool // the path's other certificates follow each other as they should
}

// CompareOrder looks at the certificates of the path only: what does not
// belong to it stands in nobody's way.
func CompareOrder(given []*pki.Certificate, path Path) Order {
	last, inOrder := -1, true
	for _, c := range path.Certificates[1:] {
		at := slices.IndexFunc(given, func(g *pki.Certificate) bool { return g.Fingerprint() == c.Fingerprint() })
		if at < 0 {
			continue
		}
		inOrder = inOrder && at > last
		last = at
	}
	leafFirst := len(given) > 0 && given[0].Fingerprint() == path.Certificates[0].Fingerprint()
	return Order{LeafFirst: leafFirst, InOrder: inOrder}
}

// Place is how one certificate stands in a chain, for reports.
type Place string

// The places.
const (
	InPlace    Place = "in-place"
	OutOfOrder Place = "out-of-order"
	Missing    Place = "missing"
	AnchorSent Place = "anchor-sent" // a root that need not be sent
	AnchorHeld Place = "anchor"      // the anchor, in the client's trust store
	NotOnPath  Place = "not-on-path"
)

// Link is one certificate of a chain as drawn.
type Link struct {
	SHA256 pki.Fingerprint `json:"sha256"`
	Label  string          `json:"label"`
	Role   Role            `json:"role" enum:"leaf,intermediate,root"`
	Place  Place           `json:"place" enum:"in-place,out-of-order,missing,anchor-sent,anchor,not-on-path"`
}

// View is a chain as drawn: what was given beside what would be right.
type View struct {
	Given    []Link `json:"given" doc:"In the order served or written, at most 100"`
	More     int    `json:"more,omitempty" doc:"How many more were given"`
	Right    []Link `json:"right" doc:"Leaf first, with what is missing, and the anchor last where there is one"`
	Store    string `json:"store,omitempty" doc:"The trust store that accepts the right chain, empty for none"`
	Complete bool   `json:"complete" doc:"A valid path exists from what was given"`
}

// maxDrawn bounds how much of what was given is drawn.
const maxDrawn = 100

// Draw makes the view of the given certificates and the best path over given and known ones.
func (r *Verifier) Draw(b *Budget, given []*pki.Certificate, path Path, store string) View {
	selfSigned := func(c *pki.Certificate) bool { return r.SelfSignedWithin(b, c) }
	v := View{Given: []Link{}, Right: []Link{}, Complete: path.Valid() && path.Borrowed == 0}
	if path.Valid() {
		v.Store = store
	}
	held := func(list []*pki.Certificate, c *pki.Certificate) int {
		return slices.IndexFunc(list, func(g *pki.Certificate) bool { return g.Fingerprint() == c.Fingerprint() })
	}
	expected := 0              // the place on the path that should come next
	skip := func(at int) int { // places that nothing given could fill
		for at < len(path.Certificates) && held(given, path.Certificates[at]) < 0 {
			at++
		}
		return at
	}
	for i, c := range given {
		if i == maxDrawn {
			v.More = len(given) - maxDrawn
			break
		}
		link := Link{c.Fingerprint(), c.Label(), roleOf(c, selfSigned), NotOnPath}
		switch at := held(path.Certificates, c); {
		case at < 0:
		case link.Role == Root && len(given) > 1:
			link.Place = AnchorSent
		case at == skip(expected):
			link.Place = InPlace
			expected = at + 1
		default:
			link.Place = OutOfOrder
			expected = at + 1
		}
		v.Given = append(v.Given, link)
	}
	for i, c := range path.Certificates {
		link := Link{c.Fingerprint(), c.Label(), roleOf(c, selfSigned), InPlace}
		switch {
		case path.Anchor != nil && i == len(path.Certificates)-1:
			link.Place = AnchorHeld
		case held(given, c) < 0:
			link.Place = Missing
		}
		v.Right = append(v.Right, link)
	}
	return v
}
