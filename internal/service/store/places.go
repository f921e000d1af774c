package store

import (
	"context"
	"maps"
	"slices"
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
	keys, err := fresh(t, c.keys, "keys", "spki_sha256", c.at)
	if err != nil {
		return err
	}
	if err := upsert(t, keys, seen("spki_sha256")); err != nil {
		return err
	}
	certificates, err := fresh(t, c.certificates, "certificates", "sha256", c.at)
	if err != nil {
		return err
	}
	if err := upsert(t, certificates, seen("sha256")); err != nil {
		return err
	}
	return upsert(t, values(c.sightings), seen("place_id", "kind", "position", "certificate", "spki_sha256"))
}

// fresh notes that those which are known are seen again, and returns the others. Most are known, and a statement that
// carries no contents costs little.
func fresh[T any](t *Tx, rows map[string]T, table, key string, at time.Time) ([]T, error) {
	if len(rows) == 0 {
		return nil, nil
	}
	ids := textArray(slices.Sorted(maps.Keys(rows)))
	var known []string
	err := t.db.Raw("SELECT "+key+" FROM "+table+" WHERE "+key+" = ANY(?::text[])", ids).Scan(&known).Error
	if err != nil {
		return nil, err
	}
	if len(known) > 0 {
		err := t.db.Exec("UPDATE "+table+" SET last_seen = ? WHERE "+key+" IN (SELECT "+key+" FROM "+table+
			" WHERE "+key+" = ANY(?::text[]) AND last_seen < ? ORDER BY 1 FOR UPDATE)", at, textArray(known), at).Error
		if err != nil {
			return nil, err
		}
	}
	left := maps.Clone(rows)
	for _, id := range known {
		delete(left, id)
	}
	return values(left), nil
}

// spotAt is an address of an endpoint, under a server name.
type spotAt struct {
	endpoint            int64
	address, serverName string
}

// addressPlaces are the places of endpoints' addresses; those that are new are made.
func (t *Tx) addressPlaces(all []*Outcome) (map[spotAt]int64, error) {
	ids := make([]int64, len(all))
	for i, x := range all {
		ids[i] = x.Endpoint
	}
	out := map[spotAt]int64{}
	var known []Place
	if err := t.db.Where("endpoint_id IN ?", ids).Find(&known).Error; err != nil {
		return nil, err
	}
	for _, p := range known {
		out[spotAt{*p.EndpointID, p.Address, p.ServerName}] = p.ID
	}
	var fresh []Place
	for _, x := range all {
		for _, o := range x.Facts.Observations {
			spot := spotAt{x.Endpoint, o.Place(), o.ServerName}
			if _, there := out[spot]; !there {
				out[spot] = 0
				fresh = append(fresh, Place{Kind: AddressPlace, EndpointID: &x.Endpoint, Address: spot.address,
					ServerName: spot.serverName})
			}
		}
	}
	if len(fresh) > 0 {
		if err := t.db.CreateInBatches(&fresh, 1000).Error; err != nil {
			return nil, err
		}
	}
	for _, p := range fresh {
		out[spotAt{*p.EndpointID, p.Address, p.ServerName}] = p.ID
	}
	return out, nil
}

// sightAddresses stores what endpoints' addresses served.
func (t *Tx) sightAddresses(places map[spotAt]int64, all []*Outcome) error {
	c := newCatch(all[0].At)
	for _, x := range all {
		for _, o := range x.Facts.Observations {
			place := places[spotAt{x.Endpoint, o.Place(), o.ServerName}]
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
