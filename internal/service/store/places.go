package store

import (
	"context"
	"net/netip"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/plain"
)

// Place is where something is: an address of an endpoint with the server name
// that was sent, or a file of a holding with line or alias.
type Place struct {
	ID         int64
	Kind       string
	EndpointID *int64
	Address    string
	ServerName string
	HoldingID  *int64
	Path       string
	Line       int
	Alias      string
}

// The kinds of places.
const (
	AddressPlace = "address"
	FilePlace    = "file"
	ConfigPlace  = "configuration" // a line of one, which names a file
)

// Sighting is a certificate or key at a place, from then until then.
type Sighting struct {
	PlaceID     int64
	Kind        string // of facts.ItemKind: certificate, private-key, public-key or request
	Position    int    // from 0, of what the place holds
	Certificate *string
	SPKISHA256  string `gorm:"column:spki_sha256"`
	FirstSeen   time.Time
	LastSeen    time.Time
}

// Key is a public key that was met.
type Key struct {
	SPKISHA256 string `gorm:"primaryKey;column:spki_sha256"`
	Kind       string // such as EC P-256
	FirstSeen  time.Time
	LastSeen   time.Time
}

// Certificate is a certificate that was met.
type Certificate struct {
	SHA256     string `gorm:"primaryKey;column:sha256"`
	SPKISHA256 string `gorm:"column:spki_sha256"`
	DER        []byte `gorm:"column:der"`
	Subject    string
	Issuer     string
	Serial     string
	Names      textArray `gorm:"type:text[]"`
	Authority  bool
	NotBefore  *time.Time
	NotAfter   *time.Time
	FirstSeen  time.Time
	LastSeen   time.Time
}

// Authorities returns the DER of every certificate of a CA that was met.
func (s *Store) Authorities(ctx context.Context) ([][]byte, error) {
	var out [][]byte
	return out, s.read(ctx).Model(&Certificate{}).Where("authority").Order("sha256").Pluck("der", &out).Error
}

// seen says which columns a second sight changes.
func seen(columns ...string) clause.OnConflict {
	// A clock that was put back makes nothing seen earlier than it was.
	on := clause.OnConflict{DoUpdates: clause.Assignments(map[string]any{
		"last_seen": gorm.Expr("GREATEST(excluded.last_seen, ?)", clause.Column{Table: clause.CurrentTable,
			Name: "last_seen"})})}
	for _, c := range columns {
		on.Columns = append(on.Columns, clause.Column{Name: c})
	}
	return on
}

// catch is what is seen at places, collected until it is stored.
type catch struct {
	at           time.Time
	keys         map[string]Key
	certificates map[string]Certificate
	sightings    map[sightingID]Sighting
}

type sightingID struct {
	place             int64
	kind              string
	position          int
	certificate, spki string
}

func newCatch(at time.Time) *catch {
	return &catch{at: at, keys: map[string]Key{}, certificates: map[string]Certificate{},
		sightings: map[sightingID]Sighting{}}
}

// certificate notes a certificate at a place; bytes that are none are passed over.
func (c *catch) certificate(place int64, position int, der []byte) {
	x, err := pki.ParseCertificate(der)
	if err != nil {
		return
	}
	b := x.Brief()
	id, spki := b.SHA256.String(), c.key(b.PublicKey())
	if _, known := c.certificates[id]; !known {
		row := Certificate{SHA256: id, SPKISHA256: spki, DER: x.Raw, Subject: plain.Text(x.Subject.String()),
			Issuer: plain.Text(x.Issuer.String()), Serial: plain.Text(b.Serial),
			Names: b.Names[:min(len(b.Names),
				maxNames)], Authority: b.CA, NotBefore: given(b.NotBefore), NotAfter: given(b.NotAfter),
			FirstSeen: c.at, LastSeen: c.at}
		c.certificates[id] = row
	}
	c.sight(Sighting{PlaceID: place, Kind: string(facts.Certificate), Position: position, Certificate: &id,
		SPKISHA256: spki})
}

// maxNames is how many names of a certificate are kept for searching; the DER has all.
const maxNames = 5000

// given is nil for a time that could not be made out.
func given(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func (c *catch) key(k pki.PublicKey) string {
	id := k.Fingerprint().String()
	c.keys[id] = Key{SPKISHA256: id, Kind: k.String(), FirstSeen: c.at, LastSeen: c.at}
	return id
}

func (c *catch) sight(s Sighting) {
	s.FirstSeen, s.LastSeen = c.at, c.at
	id := sightingID{s.PlaceID, s.Kind, s.Position, "", s.SPKISHA256}
	if s.Certificate != nil {
		id.certificate = *s.Certificate
	}
	c.sightings[id] = s
}

// save stores what was caught: keys first, since certificates refer to them.
func (c *catch) save(t *Tx) error {
	if err := upsert(t, values(c.keys), seen("spki_sha256")); err != nil {
		return err
	}
	if err := upsert(t, values(c.certificates), seen("sha256")); err != nil {
		return err
	}
	return upsert(t, values(c.sightings), seen("place_id", "kind", "position", "certificate", "spki_sha256"))
}

// addressPlaces are the places of an endpoint's addresses, by address.
func (t *Tx) addressPlaces(endpoint int64, f facts.Endpoint) (map[string]int64, error) {
	out := map[string]int64{}
	for _, o := range f.Observations {
		p := Place{Kind: AddressPlace, EndpointID: &endpoint, Address: o.Place(), ServerName: o.ServerName}
		if err := t.place(&p); err != nil {
			return nil, err
		}
		out[p.Address] = p.ID
	}
	return out, nil
}

// place finds the place, or makes it, and sets its number.
func (t *Tx) place(p *Place) error {
	found := t.db.Where("endpoint_id IS NOT DISTINCT FROM ? AND address = ? AND server_name = ? AND holding_id IS "+
		"NOT DISTINCT FROM ? AND path = ? AND line = ? AND alias = ?",
		p.EndpointID, p.Address, p.ServerName, p.HoldingID, p.Path, p.Line, p.Alias).Limit(1).Find(p)
	if found.Error != nil || found.RowsAffected > 0 {
		return found.Error
	}
	return t.db.Create(p).Error
}

// sightAddresses stores what an endpoint's addresses served.
func (t *Tx) sightAddresses(places map[string]int64, f facts.Endpoint, at time.Time) error {
	c := newCatch(at)
	for _, o := range f.Observations {
		place := places[o.Place()]
		for position, der := range o.Certificates {
			c.certificate(place, position, der)
		}
		for _, other := range o.Others { // another kind of key: the same place serves both
			if other.To == "other-key" {
				for position, der := range other.Certificates {
					c.certificate(place, position, der)
				}
			}
		}
	}
	return c.save(t)
}

// sightFiles stores what the files of a holding hold, and its configurations name, and returns the places by path, line
// and alias.
func (t *Tx) sightFiles(holding int64, files []facts.File, told []facts.Configuration, at time.Time) (map[Spot]int64,
	error) {
	named := leavesNamed(files, told)
	places, err := t.filePlaces(holding, files, named)
	if err != nil {
		return nil, err
	}
	c := newCatch(at)
	met := map[Spot]int{}
	for _, n := range named {
		c.certificate(places[n.spot], met[n.spot], n.der)
		met[n.spot]++
	}
	for _, f := range files {
		for position, item := range f.Items {
			place := places[spotOf(f, item)]
			switch {
			case item.Kind == facts.Certificate:
				c.certificate(place, position, item.DER)
			case item.Kind == facts.Request:
				if r, err := pki.ParseRequest(item.DER); err == nil {
					c.sight(Sighting{PlaceID: place, Kind: string(item.Kind), Position: position,
						SPKISHA256: c.key(r.PublicKey)})
				}
			case item.Kind == facts.PublicKey || item.Kind == facts.PrivateKey && item.Key != nil:
				der := item.DER
				if item.Key != nil {
					der = item.Key.SPKI
				}
				if k, err := pki.ParsePublicKey(der); err == nil {
					c.sight(Sighting{PlaceID: place, Kind: string(item.Kind), Position: position, SPKISHA256: c.key(k)})
				}
			}
		}
	}
	return places, c.save(t)
}

// namedLeaf is the first certificate of a file that a line of a configuration names.
type namedLeaf struct {
	spot Spot
	der  []byte
}

func leavesNamed(files []facts.File, told []facts.Configuration) (out []namedLeaf) {
	if len(told) == 0 {
		return nil
	}
	first := map[string][]byte{}
	for i := range files {
		if items := files[i].Certificates(); len(items) > 0 {
			first[files[i].Path] = items[0].DER
		}
	}
	seen := map[Spot]map[string]bool{}
	for c := range told {
		for s := range told[c].Sites {
			for _, id := range told[c].Sites[s].Identities {
				x := id.Certificate
				spot := Spot{Path: x.Line.File, Line: x.Line.Line}
				if first[x.Value] == nil || spot.Path == "" || spot.Line < 1 || seen[spot][x.Value] {
					continue // the server's default has no line
				}
				if seen[spot] == nil {
					seen[spot] = map[string]bool{}
				}
				seen[spot][x.Value] = true
				out = append(out, namedLeaf{spot, first[x.Value]})
			}
		}
	}
	return out
}

// Spot is a place inside a holding.
type Spot struct {
	Path  string
	Line  int
	Alias string
}

// spotOf is where an item of a file is.
func spotOf(f facts.File, item facts.Item) Spot { return Spot{f.Path, item.Line, item.Alias} }

func (t *Tx) filePlaces(holding int64, files []facts.File, named []namedLeaf) (map[Spot]int64, error) {
	var known []Place
	if err := t.db.Where("holding_id = ?", holding).Find(&known).Error; err != nil {
		return nil, err
	}
	out := map[Spot]int64{}
	for _, p := range known {
		out[Spot{p.Path, p.Line, p.Alias}] = p.ID
	}
	var fresh []Place
	add := func(kind string, s Spot) {
		if _, there := out[s]; !there {
			out[s] = 0
			fresh = append(fresh, Place{Kind: kind, HoldingID: &holding, Path: s.Path, Line: s.Line,
				Alias: s.Alias})
		}
	}
	for _, f := range files {
		add(FilePlace, Spot{Path: f.Path})
		for _, item := range f.Items {
			add(FilePlace, spotOf(f, item))
		}
	}
	for _, n := range named {
		add(ConfigPlace, n.spot)
	}
	if len(fresh) > 0 {
		if err := t.db.CreateInBatches(&fresh, 1000).Error; err != nil {
			return nil, err
		}
	}
	for _, p := range fresh {
		out[Spot{p.Path, p.Line, p.Alias}] = p.ID
	}
	return out, nil
}

// ServedElsewhere are the leaves with one of the names that other endpoints than those given serve, by the latest that
// is known of each.
func (s *Store) ServedElsewhere(ctx context.Context, than []Examined, names []string) ([]facts.Endpoint, error) {
	if len(names) == 0 {
		return nil, nil
	}
	ids := make([]int64, len(than))
	for i, x := range than {
		ids[i] = x.Endpoint.ID
	}
	var rows []struct {
		Target, Address string
		DER             []byte `gorm:"column:der"`
	}
	err := s.read(ctx).Raw(`
		SELECT e.target, p.address, c.der FROM certificates c
			JOIN sightings x ON x.certificate = c.sha256 JOIN places p ON p.id = x.place_id
			JOIN endpoints e ON e.id = p.endpoint_id
		WHERE x.position = 0 AND NOT c.authority AND c.names && ? AND e.id NOT IN ?
			AND NOT EXISTS (SELECT FROM sightings y JOIN places q ON q.id = y.place_id
				WHERE q.endpoint_id = e.id AND y.last_seen > x.last_seen)
		ORDER BY e.target, p.address, c.sha256`, textArray(names), ids).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	var out []facts.Endpoint
	for _, r := range rows {
		address, err := netip.ParseAddrPort(facts.AddressOf(r.Address))
		if err != nil {
			continue
		}
		if n := len(out); n == 0 || out[n-1].Endpoint != r.Target {
			out = append(out, facts.Endpoint{Schema: facts.Schema, Endpoint: r.Target})
		}
		last := &out[len(out)-1]
		last.Observations = append(last.Observations, facts.Observation{Address: address, Outcome: facts.Answered,
			Certificates: [][]byte{r.DER}})
	}
	return out, nil
}
