// Package expiry answers what ends when in the estate: lists, a timeline, a
// forecast and a calendar, out of one reading of the database that is kept
// until something changes.
package expiry

import (
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"nurvik/core/lifetime"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/trust"
	"nurvik/internal/api"
	"nurvik/internal/service/store"
)

// Desk keeps what was read. It is safe for concurrent use.
type Desk struct {
	Store *store.Store
	Roots func(ctx context.Context) ([]*trust.Store, error) // the trust stores; asked anew at each reading

	mutex sync.Mutex
	state string
	read  []entry
}

// entry is one certificate, and what is searched in.
type entry struct {
	lifetime.Due
	served store.Served
	text   string // in lower case
}

// Query selects what is asked about.
type Query struct {
	Search  string
	Kind    lifetime.Kind // "" for all
	State   string        // "" for all
	From    time.Time     // the first moment at which it may end; zero for any
	Until   time.Time     // the moment at which it must have ended; zero for any
	Renewal lifetime.Renewal
	At      time.Time
}

// entries are the certificates that are somewhere now.
func (d *Desk) entries(ctx context.Context) ([]entry, error) {
	d.mutex.Lock()
	defer d.mutex.Unlock() // who comes meanwhile waits for the same reading
	state, err := d.Store.ServedState(ctx)
	if err != nil || state == d.state && d.read != nil {
		return d.read, err
	}
	rows, err := d.Store.ServedCertificates(ctx)
	if err != nil {
		return nil, err
	}
	roots, err := d.Roots(ctx)
	if err != nil {
		return nil, err
	}
	public := publicIssuers(rows, roots)
	read := make([]entry, len(rows))
	for i := range rows {
		read[i] = entryOf(&rows[i], public)
	}
	d.state, d.read = state, read
	return read, nil
}

func entryOf(row *store.Served, public map[string]bool) entry {
	e := entry{served: *row, Due: lifetime.Due{Kind: lifetime.Leaf, Label: short(row.Subject),
		Issuer: short(row.Issuer),
		Names:  lines(row.Names), Public: public[row.Issuer]}}
	switch {
	case row.Authority && row.Subject == row.Issuer && row.Names == "":
		e.Kind = lifetime.Anchor
	case row.Authority && row.Subject != row.Issuer:
		e.Kind = lifetime.Intermediate
	}
	if e.Label == "" && len(e.Names) > 0 {
		e.Label = e.Names[0]
	}
	if row.NotBefore != nil {
		e.From = row.NotBefore.UTC()
	}
	if row.NotAfter != nil {
		e.Until = row.NotAfter.UTC()
	}
	e.SHA256, _ = pki.ParseFingerprint(row.SHA256)
	e.text = strings.ToLower(strings.Join([]string{row.Subject, row.Issuer, row.Names, row.Endpoints, row.Holdings},
		"\n"))
	return e
}

func lines(text string) []string {
	if text == "" {
		return []string{}
	}
	return strings.Split(text, "\n")
}

// short is the common name of a whole name, or all of it.
func short(name string) string {
	for part := range strings.SplitSeq(name, ", ") {
		if common, is := strings.CutPrefix(part, "CN="); is {
			return common
		}
	}
	return name
}

// publicIssuers are the names that lead to public roots, by their names alone: for a forecast that is near enough.
func publicIssuers(rows []store.Served, roots []*trust.Store) map[string]bool {
	out := map[string]bool{}
	for _, s := range roots {
		for _, a := range s.Anchors {
			if a.Kind == trust.Public {
				out[a.Certificate.Subject.String()] = true
			}
		}
	}
	for grown := true; grown; {
		grown = false
		for i := range rows {
			if r := &rows[i]; r.Authority && out[r.Issuer] && !out[r.Subject] {
				out[r.Subject], grown = true, true
			}
		}
	}
	return out
}

// match is an entry as of the time of the query.
type match struct {
	*entry
	state string
	renew *time.Time
}

// find are the entries that the query selects, what ends first in front, and how many of each state the search finds.
func (d *Desk) find(ctx context.Context, q Query) (found []match, states map[string]int, err error) {
	all, err := d.entries(ctx)
	if err != nil {
		return nil, nil, err
	}
	states = map[string]int{}
	search := strings.ToLower(q.Search)
	for i := range all {
		if search != "" && !strings.Contains(all[i].text, search) || q.Kind != "" && all[i].Kind != q.Kind {
			continue
		}
		e := match{entry: &all[i]}
		e.state = q.Renewal.StateOf(e.Kind, e.From, e.Until, q.At)
		states[e.state]++
		if q.State != "" && e.state != q.State || !q.From.IsZero() && e.Until.Before(q.From) ||
			!q.Until.IsZero() && e.Until.After(q.Until) {
			continue
		}
		if e.Kind == lifetime.Leaf && !e.From.IsZero() && !e.Until.IsZero() {
			renew := q.Renewal.From(e.From, e.Until)
			e.renew = &renew
		}
		found = append(found, e)
	}
	return found, states, nil
}

// List returns one page, from the place on.
func (d *Desk) List(ctx context.Context, q Query, from, limit int) (page api.DuePage, more bool, err error) {
	found, states, err := d.find(ctx, q)
	if err != nil {
		return page, false, err
	}
	page = api.DuePage{Items: []api.Due{}, Total: len(found), States: states}
	from = min(from, len(found))
	end := min(from+limit, len(found))
	for i := from; i < end; i++ {
		page.Items = append(page.Items, found[i].due())
	}
	return page, end < len(found), nil
}

func (e match) due() api.Due {
	places := e.served.DuePlaces()
	return api.Due{Kind: e.Kind, Label: e.Label, Names: e.Names, Issuer: e.Issuer, SHA256: e.SHA256,
		From:  e.served.NotBefore,
		Until: e.served.NotAfter, Renew: e.renew, State: e.state, Public: e.Public, Places: places,
		More: max(e.served.Count-len(places), 0)}
}

// labelsShown is how many certificates of one day are named.
const labelsShown = 5

// worst states come first.
var worst = []string{"expired", "expires-soon", "renewal-due", "not-yet-valid", "in-date"}

// Timeline counts what ends on each day from the first to the last.
func (d *Desk) Timeline(ctx context.Context, q Query, first, last time.Time) (api.Timeline, error) {
	t := api.Timeline{From: first.Format(time.DateOnly), Until: last.Format(time.DateOnly), Days: []api.DueDay{},
		At: q.At}
	found, _, err := d.find(ctx, q)
	if err != nil {
		return t, err
	}
	at := map[string]int{}
	for i := range found {
		e := found[i]
		day := e.Until.Format(time.DateOnly)
		switch {
		case e.Until.IsZero() || day < t.From:
			t.Past++
			continue
		case day > t.Until:
			t.Later++
			continue
		}
		n, known := at[day+string(e.Kind)]
		if !known {
			n = len(t.Days)
			at[day+string(e.Kind)] = n
			t.Days = append(t.Days, api.DueDay{Day: day, Kind: e.Kind, State: e.state})
			if places := e.served.DuePlaces(); len(places) > 0 {
				t.Days[n].Place = &places[0]
			}
		}
		x := &t.Days[n]
		x.Count++
		if len(x.Labels) < labelsShown {
			x.Labels = append(x.Labels, e.Label)
		}
		if slices.Index(worst, e.state) < slices.Index(worst, x.State) {
			x.State = e.state
		}
	}
	return t, nil
}

// Forecast says what renewals each month brings.
func (d *Desk) Forecast(ctx context.Context, q Query, end time.Time, minutes int) (lifetime.Forecast, error) {
	dues, err := d.Dues(ctx, q)
	if err != nil {
		return lifetime.Forecast{}, err
	}
	return lifetime.Predict(dues, q.At, end, q.Renewal, minutes, policy.Open().Lifetimes.PublicDays), nil
}

// Dues are all that the query finds, with the names of their first places.
func (d *Desk) Dues(ctx context.Context, q Query) ([]lifetime.Due, error) {
	found, _, err := d.find(ctx, q)
	if err != nil {
		return nil, err
	}
	out := make([]lifetime.Due, len(found))
	for i := range found {
		out[i] = found[i].Due
		out[i].State, out[i].Renew = found[i].state, found[i].renew
		for _, p := range found[i].served.DuePlaces() {
			out[i].Places = append(out[i].Places, p.Name)
		}
	}
	return out, nil
}
