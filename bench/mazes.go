package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"nurvik/core/forge/maze"
	"nurvik/core/intake"
	"nurvik/core/judge"
	"nurvik/core/policy"
	"nurvik/core/trust"
)

const (
	mazeTime   = 10 * time.Second // for the judgement of any file, however hostile
	mazeMemory = 150_000_000      // bytes beyond what reading it holds
)

// mazeRows tell what the judgement of each hostile file took, beside reading it.
func mazeRows(directory string, out table.Writer) (missed bool, err error) {
	if err := child("maze-write", directory); err != nil { // or this process would have them in its memory
		return false, err
	}
	for i, name := range maze.Names() {
		path := mazeAt(directory, i)
		delete(most, "maze")
		delete(most, "maze-read")
		started := time.Now()
		if err := child("maze-read", path); err != nil {
			return false, err
		}
		read := time.Since(started)
		started = time.Now()
		if err := child("maze", path); err != nil {
			return false, fmt.Errorf("%s: %w", name, err)
		}
		took := time.Since(started) - read
		out.AppendRow(table.Row{"judging " + name, took.Round(time.Millisecond), read.Round(time.Millisecond), "",
			mazeTime, word(took <= mazeTime, &missed)})
		more := most["maze"] - most["maze-read"]
		out.AppendRow(table.Row{"the same: memory", fmt.Sprintf("%d MB", most["maze"]/1_000_000),
			fmt.Sprintf("%d MB", most["maze-read"]/1_000_000), "", fmt.Sprintf("+%d MB", mazeMemory/1_000_000),
			word(more <= mazeMemory, &missed)})
	}
	return missed, nil
}

func mazeAt(directory string, i int) string {
	return filepath.Join(directory, fmt.Sprintf("maze-%d.pem", i))
}

func writeMazes(directory string) error {
	mazes, err := maze.All(time.Now())
	for i, m := range mazes {
		path := mazeAt(directory, i)
		err = errors.Join(err, os.WriteFile(path, m.PEM, 0o600), os.WriteFile(rootOf(path), m.Root, 0o600))
	}
	return err
}

func rootOf(path string) string { return strings.TrimSuffix(path, "pem") + "root" }

func readMaze(path string) error {
	_, err := new(intake.Reader).ReadFile(path)
	return err
}

// judgeMaze is what "nurvik audit" does with one file, from reading on.
func judgeMaze(path string) error {
	files, err := new(intake.Reader).ReadFile(path)
	if err != nil {
		return err
	}
	der, err := os.ReadFile(rootOf(path))
	if err != nil {
		return err
	}
	anchor, err := trust.ParseAnchor(der, trust.Private)
	if err != nil {
		return err
	}
	p, err := policy.Builtin(policy.Default)
	if err != nil {
		return err
	}
	judge.File(files[0], judge.Context{Policy: p, At: time.Now(), Trust: []*trust.Store{
		trust.New("outer", []trust.Anchor{anchor})}})
	return nil
}
