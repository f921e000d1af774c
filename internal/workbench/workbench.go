// Package workbench sorts out files that stay where they are: it identifies
// and pairs them and cuts them into clean parts. The console runs it inside
// the browser, so that nothing has to be sent anywhere.
package workbench

import (
	"bytes"
	"errors"
	"time"

	"nurvik/core/assess"
	"nurvik/core/brief"
	"nurvik/core/facts"
	"nurvik/core/intake"
	"nurvik/core/inventory"
	"nurvik/core/judge"
	"nurvik/core/keystore"
	"nurvik/core/pack"
	"nurvik/core/pairing"
	"nurvik/core/pbe"
	"nurvik/core/policy"
	"nurvik/core/serverconf"
)

// Input is one file, or a text that was pasted.
type Input struct {
	Name string
	Data []byte
}

// File is what one file, or one entry of an archive, holds.
type File struct {
	Path     string            `json:"path"`
	Verdict  judge.Verdict     `json:"verdict"`
	Entries  []inventory.Entry `json:"entries"`
	Findings []Finding         `json:"findings"`
	Locked   bool              `json:"locked"`
}

// Finding is a finding with what the catalogue says of its code.
type Finding struct {
	judge.Finding
	Why       string `json:"why"`
	Reference string `json:"reference"`
}

// Unread is an input in which nothing was recognised.
type Unread struct {
	Name   string `json:"name"`
	Reason string `json:"reason"`
}

// Result is what the workbench shows.
type Result struct {
	Files []File `json:"files"`
	*pairing.Result
	Parts   []Part   `json:"parts"`
	Unread  []Unread `json:"unread"`
	Servers []string `json:"servers" doc:"For which files can be packed"`
}

// readerOf is a reader that hands opened keys to the ring.
func readerOf(passwords []string, keys *pack.Keyring) *intake.Reader {
	return &intake.Reader{Opener: keystore.Opener{Passwords: passwords, Budget: &pbe.Budget{}}, Private: keys.Add,
		Memory: &brief.Memory{}}
}

// readAll reads the inputs; what cannot be read is told and hides nothing else.
func readAll(reader *intake.Reader, inputs []Input) (files []facts.File, unread []Unread) {
	unread = []Unread{}
	for _, in := range inputs {
		found, err := reader.Read(in.Name, bytes.NewReader(in.Data))
		for _, f := range found {
			if len(f.Items)+len(f.Defects) > 0 {
				files = append(files, f)
			}
		}
		switch {
		case errors.Is(err, intake.ErrNothing):
			unread = append(unread, Unread{in.Name,
				"nothing in it is a certificate, key, request or other material that is known"})
		case err != nil && len(found) == 0:
			unread = append(unread, Unread{in.Name, err.Error()})
		}
	}
	return files, unread
}

// Sort reads the inputs with the passwords, judges them as of the time, and
// cuts them into parts. What cannot be read is told and hides nothing else.
func Sort(inputs []Input, passwords []string, at time.Time) (*Result, error) {
	keys := &pack.Keyring{}
	reader := readerOf(passwords, keys)
	r := &Result{Files: []File{}}
	for _, s := range serverconf.Servers() {
		r.Servers = append(r.Servers, s.Name)
	}
	var files []facts.File
	files, r.Unread = readAll(reader, inputs)
	engine := assess.New(assess.Options{At: at, Memory: reader.Memory, Material: true})
	judgements, result := engine.Files(files, assess.Expectation{Policy: policy.Open()})
	owners := inventory.OwnersOf(files, reader.Memory)
	for i, j := range judgements {
		reason, _ := judge.Locked(files[i])
		f := File{Path: j.Target, Verdict: j.Verdict, Entries: []inventory.Entry{}, Findings: []Finding{},
			Locked: reason == facts.NoPassword || reason == facts.WrongPassword}
		for n := range files[i].Items {
			e := inventory.Of(&files[i].Items[n], reader.Memory, true)
			owners.Name(&e)
			f.Entries = append(f.Entries, e)
		}
		for _, finding := range j.Findings {
			entry, _ := judge.Explain(finding.Code)
			f.Findings = append(f.Findings, Finding{finding, entry.Why, entry.Reference})
		}
		r.Files = append(r.Files, f)
	}
	r.Result = result
	r.Parts = parts(files, result, keys, at)
	return r, nil
}
