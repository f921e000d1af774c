package workbench

import (
	"errors"
	"fmt"
	"time"

	"nurvik/core/assess"
	"nurvik/core/compare"
	"nurvik/core/naming"
	"nurvik/core/pack"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/serverconf"
	"nurvik/core/trust"
)

// Compare compares two inputs.
func Compare(first, second Input, passwords []string) (*compare.Result, error) {
	var sides [2]compare.Side
	for i, in := range []Input{first, second} {
		files, unread := readAll(readerOf(passwords, &pack.Keyring{}), []Input{in})
		for _, u := range unread {
			return nil, fmt.Errorf("%s cannot be compared: %s", u.Name, u.Reason)
		}
		if sides[i] = compare.OfFiles(in.Name, files); sides[i].Empty() {
			return nil, fmt.Errorf("%s cannot be compared: it has no certificate, certificate request (CSR) or key",
				in.Name)
		}
	}
	return compare.Compare(sides[0], sides[1]), nil
}

// Wish is what is to be packed.
type Wish struct {
	Name     string `json:"name"`   // that the certificate must cover, "" for any
	Server   string `json:"server"` // which decides the shape, or
	Shape    string `json:"shape"`
	Java     bool   `json:"java"`
	Password string `json:"password"` // of a new keystore
}

// Packed is what a server wants, or why there is none.
type Packed struct {
	Files   []PackedFile `json:"files"`
	Lines   []string     `json:"lines" doc:"Of the server's configuration"`
	Notes   []string     `json:"notes"`
	Refused string       `json:"refused,omitempty"`
}

// PackedFile is a file to be saved.
type PackedFile struct {
	Name string `json:"name"`
	What string `json:"what"`
	Data []byte `json:"data"`
}

// Pack makes the files that a server wants out of the inputs. There is no trust store in a browser: a chain may end
// where its issuer is not at hand, which is told.
func Pack(inputs []Input, passwords []string, w Wish, at time.Time) (*Packed, error) {
	out := &Packed{Files: []PackedFile{}, Lines: []string{}, Notes: []string{}}
	files, err := w.make(inputs, passwords, at, out)
	var refused *pack.RefusedError
	switch {
	case errors.As(err, &refused), errors.Is(err, pack.ErrNone):
		out.Refused = err.Error()
		return out, nil
	case err != nil:
		return nil, err
	}
	for _, f := range files {
		out.Files = append(out.Files, PackedFile{f.Name, f.What, f.Data})
	}
	return out, nil
}

func (w Wish) make(inputs []Input, passwords []string, at time.Time, out *Packed) ([]pack.File, error) {
	form := pack.Form{Shape: serverconf.Shape(w.Shape), Java: w.Java, Password: []byte(w.Password), At: at}
	var server *serverconf.Server
	if w.Server != "" {
		s, err := serverconf.Find(w.Server)
		if err != nil {
			return nil, err
		}
		server, form.Shape = &s, s.Shape
		form.WithKey = s.Shape != serverconf.Keystore && s.Shape != serverconf.Combined
	}
	wanted := pack.Wanted{Policy: policy.Open(), Stores: []*trust.Store{}, Open: true}
	if w.Name != "" {
		r, err := naming.Parse(w.Name)
		if err != nil {
			return nil, err
		}
		wanted.Names = append(wanted.Names, r)
	}
	keys := &pack.Keyring{}
	files, _ := readAll(readerOf(passwords, keys), inputs)
	heap := pack.NewHeap(files, keys)
	leaf, err := heap.Choose(wanted.Names, at)
	if err != nil {
		return nil, err
	}
	set, err := heap.Assemble(leaf, wanted, assess.Options{At: at})
	if err != nil {
		return nil, err
	}
	form.Base, form.Alias = unique(map[string]int{}, leaf.Label()), leaf.Label()
	made, err := set.Write(form)
	if err == nil {
		err = set.Check(form, made)
	}
	if err != nil {
		return nil, err
	}
	out.Notes = notesOf(set)
	if server != nil {
		at := map[serverconf.Part]string{}
		for _, f := range made {
			at[f.Part] = "/etc/ssl/" + f.Name
		}
		out.Lines = server.Lines(at)
	}
	return made, nil
}

// notesOf are what has to be known of a set.
func notesOf(set *pack.Set) []string {
	out := []string{}
	if set.Open {
		top := append([]*pki.Certificate{set.Leaf}, set.Chain...)
		out = append(out, fmt.Sprintf("The certificate of the last issuer, %q, is not among what was read. If that "+
			"is no root, the chain lacks it.", top[len(top)-1].Issuer.Label()))
	}
	out = append(out, "Whether clients trust the root cannot be seen here.")
	for _, f := range set.Findings {
		out = append(out, fmt.Sprintf("%s (%s): %s", f.Code, f.Severity, f.Message))
	}
	return out
}
