// Service measures the lists, sums and searches of the service on a large estate that it generates into a PostgreSQL of
// its own. SCALE=1 is a million endpoints with ten million findings and fifty million sightings; SCALE=0.1, the
// default, a tenth of that. The database is kept between runs. It ends with 1 when a limit is missed.
package main

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jedib0t/go-pretty/v6/table"

	"nurvik/core/wanted"
	"nurvik/internal/report"
	"nurvik/internal/service/postgres"
	"nurvik/internal/service/store"
	"nurvik/internal/version"
)

const (
	million  = 1_000_000
	rounds   = 20 // of each question; the one but last counts, which is the 95th percentile
	listTime = 50 * time.Millisecond
	sumTime  = 100 * time.Millisecond
	// The whole estate is compared, on demand and for two callers at once at most.
	proposeTime = 5 * time.Second
	findTime    = 200 * time.Millisecond
	page        = 100
	mostTime    = 10 * time.Second // of a question before it is given up
	generator   = 2                // of the estate; another one makes it anew
)

//go:embed estate.sql
var estate string

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	kind := ""
	if len(os.Args) > 1 {
		kind = os.Args[1]
	}
	kinds := map[string]func(context.Context) (bool, error){"": run, "ingest": ingest, "workers": workers}
	missed, err := kinds[kind](ctx)
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
	}
	if missed || err != nil {
		os.Exit(1) //nolint:gocritic // the signal needs no end any more
	}
}

// run generates what is missing, and measures.
func run(ctx context.Context) (missed bool, err error) {
	scale := 0.1
	if text := os.Getenv("SCALE"); text != "" {
		if scale, err = strconv.ParseFloat(text, 64); err != nil || scale <= 0 || scale > 10 {
			return false, fmt.Errorf("SCALE=%s is no number between 0 and 10; 1 is a million endpoints", text)
		}
	}
	endpoints := max(1000, int(scale*million))
	directory := os.Getenv("DIRECTORY")
	if directory == "" {
		directory = filepath.Join(os.TempDir(), fmt.Sprintf("nurvik-bench-service-%d", endpoints))
	}
	if err := os.MkdirAll(directory, 0o711); err != nil {
		return false, err
	}
	server, err := postgres.Start(ctx, postgres.Options{Directory: directory, Unsafe: true,
		Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, server.Stop(context.WithoutCancel(ctx))) }()
	s, err := store.Open(ctx, server.URL(), server.Dial)
	if err != nil {
		return false, err
	}
	defer s.Close()
	if err := generate(ctx, s, endpoints); err != nil {
		return false, fmt.Errorf("generate the estate: %w", err)
	}
	out := report.NewTable("question", "median", "95 %", "limit", "")
	for _, q := range questions(s) {
		m, err := measure(ctx, q, out)
		if err != nil {
			return missed, fmt.Errorf("%s: %w", q.name, err)
		}
		missed = missed || m
	}
	fmt.Printf("%s; %d endpoints, %d processors, %s\n\n%s\n", time.Now().UTC().Format(time.DateOnly), endpoints,
		runtime.NumCPU(), version.Go(), out.Render())
	return missed, nil
}

// generate makes the estate, unless it is there.
func generate(ctx context.Context, s *store.Store, endpoints int) error {
	const note = "CREATE TABLE IF NOT EXISTS generated (version integer, endpoints integer)"
	if _, err := s.Pool.Exec(ctx, note); err != nil {
		return err
	}
	var there bool
	err := s.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM generated WHERE version = $1 AND endpoints = $2)",
		generator, endpoints).Scan(&there)
	if err != nil || there {
		return err
	}
	if _, err := s.Pool.Exec(ctx, `INSERT INTO policies (name, builtin, updated_at) VALUES ('open-web', true, now())
		ON CONFLICT DO NOTHING`); err != nil {
		return err
	}
	started := time.Now()
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	text := strings.ReplaceAll(estate, "{{ENDPOINTS}}", strconv.Itoa(endpoints))
	for statement := range strings.SplitSeq(text, "\n\n") {
		if _, err := conn.Exec(ctx, statement, pgx.QueryExecModeSimpleProtocol); err != nil {
			return err
		}
		fmt.Fprintf(os.Stderr, "\rgenerating %d endpoints: %s", endpoints, time.Since(started).Round(time.Second))
	}
	fmt.Fprintln(os.Stderr)
	_, err = conn.Exec(ctx, "INSERT INTO generated VALUES ($1, $2)", generator, endpoints)
	return err
}

// question is one that a person or program asks the service.
type question struct {
	name  string
	limit time.Duration
	ask   func(ctx context.Context, round int) (rows int, err error)
}

func questions(s *store.Store) []question {
	var out []question
	endpoints := func(name string, limit time.Duration, q store.EndpointQuery) {
		out = append(out, question{"endpoints " + name, limit, func(ctx context.Context, _ int) (int, error) {
			q.Limit = page
			rows, _, err := s.Endpoints(ctx, q)
			return len(rows), err
		}})
	}
	for _, sort := range []string{"target", "verdict", "not_after", "issuer"} {
		for _, desc := range []bool{false, true} {
			name := "by " + sort + map[bool]string{true: ", the last first"}[desc]
			endpoints(name, listTime, store.EndpointQuery{Sort: sort, Desc: desc})
			for _, verdict := range []string{"sound", "at-risk", "faulty", "unreachable"} {
				endpoints(name+", "+verdict, listTime, store.EndpointQuery{Sort: sort, Desc: desc, Verdict: verdict})
			}
		}
	}
	for _, sort := range []string{"target", "verdict", "not_after", "issuer"} {
		endpoints("by "+sort+", of a label", listTime, store.EndpointQuery{Sort: sort, Label: "owner=crew 77"})
		endpoints("by "+sort+", of a rare label", listTime, store.EndpointQuery{Sort: sort, Label: "quay=quay 4999"})
	}
	for _, text := range []string{"crew 77", "e4da3b7fbbce", "quay 4999", "skerry issuing 7", "nowhere at all"} {
		endpoints("that have "+text, findTime, store.EndpointQuery{Sort: "target", Search: text})
	}
	findings := func(name string, limit time.Duration, q store.FindingQuery) {
		out = append(out, question{"findings " + name, limit, func(ctx context.Context, _ int) (int, error) {
			q.Limit = page
			rows, _, err := s.Findings(ctx, q)
			return len(rows), err
		}})
	}
	findings("all", listTime, store.FindingQuery{})
	for _, severity := range []string{"fault", "risk", "note", "none"} {
		findings(severity, listTime, store.FindingQuery{Severity: severity})
	}
	for _, state := range []string{"new", "standing", "gone", "back"} {
		findings(state, listTime, store.FindingQuery{State: state})
	}
	findings("waived", listTime, store.FindingQuery{Waived: "yes"})
	findings("not waived", listTime, store.FindingQuery{Waived: "no"})
	findings("chain.incomplete", listTime, store.FindingQuery{Code: "chain.incomplete"})
	findings("of a cause", listTime, store.FindingQuery{Cause: "chain.incomplete 77"})
	findings("of an endpoint", listTime, store.FindingQuery{EndpointID: 77})
	findings("of a label", listTime, store.FindingQuery{Label: "owner=crew 77"})
	findings("of a rare label", listTime, store.FindingQuery{Label: "quay=quay 4999"})
	for _, text := range []string{"quay 4999", "e4da3b7fbbce", "nowhere at all"} {
		findings("that have "+text, findTime, store.FindingQuery{Search: text})
	}
	causes := func(name string, limit time.Duration, q store.CauseQuery) {
		out = append(out, question{"causes " + name, limit, func(ctx context.Context, _ int) (int, error) {
			q.Limit = page
			rows, _, err := s.Causes(ctx, q)
			return len(rows), err
		}})
	}
	causes("all", listTime, store.CauseQuery{})
	causes("fault", listTime, store.CauseQuery{Severity: "fault"})
	causes("chain.incomplete", listTime, store.CauseQuery{Code: "chain.incomplete"})
	causes("waived", listTime, store.CauseQuery{Waived: true})
	causes("that have quay 4999", findTime, store.CauseQuery{Search: "quay 4999"})
	out = append(out,
		question{"audits", listTime, func(ctx context.Context, _ int) (int, error) {
			rows, _, err := s.Audits(ctx, "", page)
			return len(rows), err
		}},
		question{"holdings", listTime, func(ctx context.Context, _ int) (int, error) {
			rows, err := s.Holdings(ctx)
			return len(rows), err
		}},
		question{"names that are in no endpoint", proposeTime, func(ctx context.Context, _ int) (int, error) {
			rows, _, err := s.NamesElsewhere(ctx, time.Now())
			return len(rows), err
		}},
		question{"sums of the overview", sumTime, func(ctx context.Context, _ int) (int, error) {
			rows, err := s.VerdictCounts(ctx, "")
			return len(rows), err
		}})
	where := func(name, column string) {
		out = append(out, question{"where " + name, findTime, func(ctx context.Context, round int) (int, error) {
			var text string
			if err := s.Pool.QueryRow(ctx, "SELECT "+column+` FROM endpoints e JOIN places p ON p.endpoint_id = e.id
				JOIN sightings x ON x.place_id = p.id JOIN certificates c ON c.sha256 = x.certificate WHERE e.id = $1
				LIMIT 1`, 77+round).Scan(&text); err != nil {
				return 0, err
			}
			thing, err := wanted.Parse(text)
			if err != nil {
				return 0, err
			}
			rows, _, err := s.Where(ctx, thing, 500)
			return len(rows), err
		}})
	}
	where("a fingerprint", "c.sha256")
	where("a serial number", "c.serial")
	where("a name", "c.names[1]")
	where("a key", "c.spki_sha256")
	return out
}

// measure asks again and again. The first time is for the caches.
func measure(ctx context.Context, q question, out table.Writer) (missed bool, err error) {
	var took []time.Duration
	for round := range rounds + 1 {
		limited, cancel := context.WithTimeout(ctx, mostTime)
		started := time.Now()
		_, err := q.ask(limited, round)
		cancel()
		switch {
		case errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil:
			out.AppendRow(table.Row{q.name, "", "over " + mostTime.String(), q.limit, "MISSED"})
			return true, nil
		case err != nil:
			return false, err
		}
		if round > 0 {
			took = append(took, time.Since(started))
		}
	}
	slices.Sort(took)
	high, met := took[rounds-2], "met"
	if high > q.limit {
		met = "MISSED"
	}
	out.AppendRow(table.Row{q.name, took[rounds/2].Round(100 * time.Microsecond), high.Round(100 * time.Microsecond),
		q.limit, met})
	return high > q.limit, nil
}
