// Bench measures what the design promises, each figure as a ratio to a floor
// that is run beside it on the same machine. It ends with 1 when a limit is missed.
package main

import (
	"cmp"
	"fmt"
	"os"
	"runtime"
	"slices"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nurvik/internal/report"
	"nurvik/internal/version"
)

// figure is one promise: ours may take at most limit times what the floor takes.
type figure struct {
	name        string
	limit       float64
	ours, floor func() error
	rounds      int // 0 for the usual number
}

// memoryLimit is what identifying and pairing may use, in bytes.
const memoryLimit = 300_000_000

// rounds is how often each side is run, in turns; the middle counts.
const rounds = 5

func main() {
	if len(os.Args) == 3 && children[os.Args[1]] != nil {
		if err := children[os.Args[1]](os.Args[2]); err != nil {
			fmt.Fprintln(os.Stderr, "bench:", err)
			os.Exit(1)
		}
		return
	}
	directory, err := os.MkdirTemp("", "nurvik-bench-")
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
	missed, err := false, error(nil)
	if len(os.Args) == 2 && os.Args[1] == "visits" { // alone, while one works on them
		out := report.NewTable("figure", "ours", "floor", "ratio", "limit", "")
		missed, err = visitRows(directory, out)
		fmt.Println(out.Render())
	} else {
		missed, err = run(directory)
	}
	if removeErr := os.RemoveAll(directory); err == nil {
		err = removeErr
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
	}
	if err != nil || missed {
		os.Exit(1)
	}
}

func run(directory string) (missed bool, err error) {
	files, err := fileFigure(directory)
	if err != nil {
		return false, err
	}
	chains, err := chainFigure()
	if err != nil {
		return false, err
	}
	out := report.NewTable("figure", "ours", "floor", "ratio", "limit", "")
	for _, f := range []figure{files, chains} {
		ours, floor, err := measure(f)
		if err != nil {
			return false, fmt.Errorf("%s: %w", f.name, err)
		}
		ratio := float64(ours) / float64(floor)
		word := "met"
		if ratio > f.limit {
			word, missed = "MISSED", true
		}
		out.AppendRow(table.Row{f.name, ours.Round(time.Millisecond), floor.Round(time.Millisecond), fmt.Sprintf("%.2f", ratio), fmt.Sprintf("%.2f", f.limit), word})
		if f.name == files.name {
			missed = memoryRow(out) || missed
		}
	}
	missedVisits, err := visitRows(directory, out)
	if err != nil {
		return false, err
	}
	missed = missed || missedVisits
	took, err := heapFigure(directory)
	if err != nil {
		return false, err
	}
	missed = heapRows(out, took) || missed
	took, err = sharedFigure()
	if err != nil {
		return false, err
	}
	word := "met"
	if took > sharedLimit {
		word, missed = "MISSED", true
	}
	out.AppendRow(table.Row{fmt.Sprintf("prime factors shared among %d RSA-2048 moduli", moduliCount), took.Round(100 * time.Millisecond), "", "", sharedLimit, word})
	fmt.Printf("%s; %s/%s, %d processors, %s\n\n%s\n", time.Now().UTC().Format(time.DateOnly), runtime.GOOS, runtime.GOARCH, runtime.NumCPU(), version.Go(), out.Render())
	return missed, nil
}

// memoryRow tells how much memory the figure for files took.
func memoryRow(out table.Writer) (missed bool) {
	word := "met"
	if most["identify"] > memoryLimit {
		word, missed = "MISSED", true
	}
	out.AppendRow(table.Row{"the same: memory at most", fmt.Sprintf("%d MB", most["identify"]/1_000_000), "", "", fmt.Sprintf("%d MB", memoryLimit/1_000_000), word})
	return missed
}

// heapRows tell what the answer about a hostile heap took.
func heapRows(out table.Writer, took time.Duration) (missed bool) {
	words := [2]string{"met", "met"}
	if took > heapTimeLimit {
		words[0], missed = "MISSED", true
	}
	if most["heap"] > heapMemoryLimit {
		words[1], missed = "MISSED", true
	}
	out.AppendRow(table.Row{fmt.Sprintf("an answer about %d certificates of one name", heapSize), took.Round(time.Millisecond), "", "", heapTimeLimit, words[0]})
	out.AppendRow(table.Row{"the same: memory", fmt.Sprintf("%d MB", most["heap"]/1_000_000), "", "", fmt.Sprintf("%d MB", heapMemoryLimit/1_000_000), words[1]})
	return missed
}

// measure runs both sides in turns, after one round that warms caches, and returns the middle of each.
func measure(f figure) (ours, floor time.Duration, err error) {
	var a, b []time.Duration
	turns := cmp.Or(f.rounds, rounds)
	for round := range turns + 1 {
		for _, side := range []struct {
			run  func() error
			into *[]time.Duration
		}{{f.ours, &a}, {f.floor, &b}} {
			runtime.GC()
			started := time.Now()
			if err := side.run(); err != nil {
				return 0, 0, err
			}
			if round > 0 {
				*side.into = append(*side.into, time.Since(started))
			}
		}
	}
	slices.Sort(a)
	slices.Sort(b)
	return a[turns/2], b[turns/2], nil
}
