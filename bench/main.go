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

// memoryLimit is what reading files may use, in bytes.
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
	missed, err := run(directory, os.Args[1:])
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

// parts in the order in which they are measured. Those whose memory counts come
// first: a child's account begins with what this process has in use.
var parts = []struct {
	name string
	rows func(directory string, out table.Writer) (missed bool, err error)
}{{"files", fileRows}, {"hosts", hostRows}, {"heap", heapRows}, {"mazes", mazeRows}, {"visits", visitRows}, {"chains",
	chainRows}, {"shared",
	sharedRows},
	{"expiry", expiryRows}}

// run measures the parts that are named, or all.
func run(directory string, only []string) (missed bool, err error) {
	out := report.NewTable("figure", "ours", "floor", "ratio", "limit", "")
	for _, p := range parts {
		if len(only) > 0 && !slices.Contains(only, p.name) {
			continue
		}
		m, err := p.rows(directory, out)
		if err != nil {
			return false, fmt.Errorf("%s: %w", p.name, err)
		}
		missed = missed || m
	}
	fmt.Printf("%s; %s/%s, %d processors, %s\n\n%s\n", time.Now().UTC().Format(time.DateOnly), runtime.GOOS,
		runtime.GOARCH, runtime.NumCPU(), version.Go(), out.Render())
	return missed, nil
}

// word says whether a limit was met, and notes a miss.
func word(met bool, missed *bool) string {
	if met {
		return "met"
	}
	*missed = true
	return "MISSED"
}

// ratioRow measures a figure against its floor.
func ratioRow(f figure, out table.Writer) (missed bool, err error) {
	ours, floor, err := measure(f)
	if err != nil {
		return false, err
	}
	ratio := float64(ours) / float64(floor)
	out.AppendRow(table.Row{f.name, ours.Round(time.Millisecond), floor.Round(time.Millisecond),
		fmt.Sprintf("%.2f", ratio), fmt.Sprintf("%.2f", f.limit), word(ratio <= f.limit, &missed)})
	return missed, nil
}

func chainRows(_ string, out table.Writer) (missed bool, err error) {
	f, err := chainFigure()
	if err != nil {
		return false, err
	}
	return ratioRow(f, out)
}

// heapRows tell what the answer about a hostile heap took.
func heapRows(directory string, out table.Writer) (missed bool, err error) {
	took, err := heapFigure(directory)
	if err != nil {
		return false, err
	}
	out.AppendRow(table.Row{fmt.Sprintf("an answer about %d certificates of one name", heapSize),
		took.Round(time.Millisecond), "", "", heapTimeLimit, word(took <= heapTimeLimit, &missed)})
	out.AppendRow(table.Row{"the same: memory", fmt.Sprintf("%d MB", most["heap"]/1_000_000), "", "",
		fmt.Sprintf("%d MB", heapMemoryLimit/1_000_000), word(most["heap"] <= heapMemoryLimit, &missed)})
	return missed, nil
}

func sharedRows(_ string, out table.Writer) (missed bool, err error) {
	took, err := sharedFigure()
	if err != nil {
		return false, err
	}
	out.AppendRow(table.Row{fmt.Sprintf("prime factors shared among %d RSA-2048 moduli", moduliCount),
		took.Round(100 * time.Millisecond), "", "", sharedLimit, word(took <= sharedLimit, &missed)})
	return missed, nil
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
