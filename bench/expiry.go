package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"iter"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/prometheus/client_golang/prometheus"

	"nurvik/core/forge"
	"nurvik/core/naming"
	"nurvik/core/pki"
	"nurvik/internal/service/auth"
	"nurvik/internal/service/postgres"
	"nurvik/internal/service/store"
	"nurvik/internal/service/web"
)

const (
	dueCount     = 100_000     // certificates in the service, each at an endpoint of its own
	pageLimit    = time.Second // for all that the page of what ends when asks
	ratioExpiry  = 1.1
	neededCount  = 1000
	coverCount   = 10_000
	coverLimit   = 2 * time.Second
	insertEstate = `
		INSERT INTO endpoints (target, settings, created_at, updated_at, verdict, judged_at)
			SELECT 'e' || i || '.example:443', '{}', now(), now(), 'sound', now() FROM generate_series(1, $1) i;
		INSERT INTO keys SELECT encode(sha256(('k' || i)::bytea), 'hex'), 'EC P-256', now(), now()
			FROM generate_series(0, $1) i;
		INSERT INTO certificates
			SELECT encode(sha256(('c' || i)::bytea), 'hex'), encode(sha256(('k' || i)::bytea), 'hex'), '\x30',
				'O=Tarnholm Harbour Authority, CN=e' || i ||
					'.example', 'O=Tarnholm Harbour Authority, CN=Issuing', i::text,
				ARRAY['e' || i || '.example', 'www.e' || i || '.example'], false,
				now() - (i % 199) * interval '1 day', now() + (199 - i % 199) * interval '1 day', now(), now()
			FROM generate_series(1, $1) i;
		INSERT INTO certificates
			SELECT encode(sha256('c0'::bytea), 'hex'), encode(sha256('k0'::bytea), 'hex'), '\x30',
				'O=Tarnholm Harbour Authority, CN=Issuing', 'O=Tarnholm Harbour Authority, CN=Root', '0', '{}', true,
				now() - interval '1 year', now() + interval '5 years', now(), now();
		INSERT INTO places (kind, endpoint_id, address) SELECT 'address', id, '192.0.2.7:443' FROM endpoints;
		INSERT INTO sightings
			SELECT p.id, 'certificate', 0, c.sha256, c.spki_sha256, now(), now() FROM places p
			JOIN endpoints e ON e.id = p.endpoint_id JOIN certificates c ON c.names[1] || ':443' = e.target;
		INSERT INTO sightings
			SELECT p.id, 'certificate', 1, c.sha256, c.spki_sha256, now(), now() FROM places p, certificates c
			WHERE c.authority;
		ANALYZE;`
)

// expiryRows: what the page of what ends when asks for, and the coverage of many names by many certificates.
func expiryRows(directory string, out table.Writer) (missed bool, err error) {
	first, again, err := pageFigure(directory)
	if err != nil {
		return false, err
	}
	for _, f := range []struct {
		name        string
		took, limit time.Duration
	}{{fmt.Sprintf("what ends when, of %d certificates: after a change", dueCount), first, pageLimit},
		{"the same: unchanged", again, pageLimit}} {
		out.AppendRow(table.Row{f.name, f.took.Round(time.Millisecond), "", "", f.limit,
			word(f.took <= f.limit, &missed)})
	}
	f, err := newFamily()
	if err != nil {
		return missed, err
	}
	root := filepath.Join(directory, "mixed")
	if err := writeMixed(root, f); err != nil {
		return missed, err
	}
	m, err := ratioRow(figure{name: fmt.Sprintf("nurvik expiry of %d files, against nurvik identify of them",
		fileCount),
		limit: ratioExpiry, rounds: 3,
		ours:  func() error { return child("client", "expiry "+root) },
		floor: func() error { return child("client", "identify "+root) }}, out)
	if missed = missed || m; err != nil {
		return missed, err
	}
	took, err := coverFigure()
	if err != nil {
		return false, err
	}
	out.AppendRow(table.Row{fmt.Sprintf("coverage of %d names by %d certificates", neededCount, coverCount),
		took.Round(time.Millisecond), "", "", coverLimit, word(took <= coverLimit, &missed)})
	return missed, nil
}

// pageFigure is how long the three questions of the page take together, when something has changed and when nothing
// has.
func pageFigure(directory string) (first, again time.Duration, err error) {
	ctx := context.Background()
	if err := os.Chmod(directory, 0o755); err != nil {
		return 0, 0, err
	}
	quiet := slog.New(slog.NewTextHandler(io.Discard, nil))
	server, err := postgres.Start(ctx, postgres.Options{Directory: filepath.Join(directory, "data"), Log: quiet,
		Unsafe: true})
	if err != nil {
		return 0, 0, err
	}
	defer func() { err = errors.Join(err, server.Stop(ctx)) }()
	s, err := store.Open(ctx, server.URL(), server.Dial)
	if err != nil {
		return 0, 0, err
	}
	defer s.Close()
	for statement, args := range statements(insertEstate) {
		if _, err := s.Pool.Exec(ctx, statement, args...); err != nil {
			return 0, 0, err
		}
	}
	service := httptest.NewServer(web.New(web.Options{Store: s,
		Auth: &auth.Door{LetIn: &auth.Identity{Role: auth.Viewer}}, Hosts: []string{"127.0.0.1"},
		Registry: prometheus.NewRegistry(), Log: quiet, Now: time.Now}))
	defer service.Close()
	ask := func() (time.Duration, error) {
		started := time.Now()
		var group sync.WaitGroup
		errs := make([]error, 3)
		for i, path := range []string{"expiry?limit=100", "expiry/timeline", "expiry/forecast"} {
			group.Go(func() {
				response, err := http.Get(service.URL + "/api/v1/" + path)
				if errs[i] = err; err != nil {
					return
				}
				defer response.Body.Close()
				if _, errs[i] = io.Copy(io.Discard, response.Body); response.StatusCode != http.StatusOK {
					errs[i] = fmt.Errorf("%s: %s", path, response.Status)
				}
			})
		}
		group.Wait()
		return time.Since(started), errors.Join(errs...)
	}
	if first, err = ask(); err != nil {
		return 0, 0, err
	}
	again, err = ask()
	return first, again, err
}

// coverFigure compares names with certificates.
func coverFigure() (time.Duration, error) {
	issuer, spki, err := signer()
	if err != nil {
		return 0, err
	}
	var columns []naming.Column
	for i := range coverCount {
		name := fmt.Sprintf("h%d.example", i)
		der, err := forge.Issue(issuer, nil, forge.Template{Name: name, Names: []string{name, "www." + name},
			SPKI: spki,
			From: benchFrom, Until: benchUntil})
		if err != nil {
			return 0, err
		}
		c, err := pki.ParseCertificate(der)
		if err != nil {
			return 0, err
		}
		columns = append(columns, naming.NewColumn(name, c))
	}
	var needed []naming.Reference
	for i := range neededCount {
		r, err := naming.Parse(fmt.Sprintf("h%d.example", i*coverCount/neededCount+i%2*coverCount))
		if err != nil {
			return 0, err
		}
		needed = append(needed, r)
	}
	started := time.Now()
	naming.Compare(needed, columns)
	return time.Since(started), nil
}

// signer is an authority with a quick key, and the public half of another.
func signer() (*forge.Authority, []byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	issuer, err := forge.NewAuthority(nil, key, forge.ECDSASHA256, forge.Template{Name: "Root", From: benchFrom,
		Until: benchUntil})
	if err != nil {
		return nil, nil, err
	}
	spki, err := forge.PublicInfo(key)
	return issuer, spki, err
}

// statements are the parts of a text of SQL; each takes the count where it has a place for it.
func statements(text string) iter.Seq2[string, []any] {
	return func(yield func(string, []any) bool) {
		for part := range strings.SplitSeq(text, ";") {
			if part = strings.TrimSpace(part); part == "" {
				continue
			}
			var args []any
			if strings.Contains(part, "$1") {
				args = append(args, dueCount)
			}
			if !yield(part, args) {
				return
			}
		}
	}
}
