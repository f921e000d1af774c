package pack

import (
	"bytes"
	"fmt"
	"slices"

	"nurvik/core/facts"
	"nurvik/core/intake"
	"nurvik/core/keystore"
	"nurvik/core/pbe"
	"nurvik/core/pki"
	"nurvik/core/serverconf"
)

// Check reads back what was written: every file must hold just what it should, in order, and a key that is the leaf's.
func (s *Set) Check(f Form, files []File) error {
	for _, file := range files {
		if err := s.check(f, file); err != nil {
			return fmt.Errorf("%s was not written rightly, which is a defect of Nurvik itself: %w", file.Name, err)
		}
	}
	return nil
}

func (s *Set) check(f Form, file File) error {
	ring := &Keyring{}
	reader := &intake.Reader{Opener: keystore.Opener{Budget: &pbe.Budget{}}, Private: ring.Add}
	if len(f.Password) > 0 {
		reader.Passwords = []string{string(f.Password)}
	}
	read, err := reader.Read(file.Name, bytes.NewReader(file.Data))
	if err != nil {
		return err
	}
	var got []pki.Fingerprint
	keys := 0
	for _, r := range read {
		if len(r.Defects) > 0 && file.Part != serverconf.PartCombined { // which has a key among certificates
			return fmt.Errorf("reading it back finds a defect: %s", r.Defects[0].Kind)
		}
		for _, item := range r.Items {
			switch item.Kind {
			case facts.Certificate:
				got = append(got, pki.FingerprintOf(item.DER))
			case facts.PrivateKey:
				keys++
			}
		}
	}
	wantsKey := file.Part == serverconf.PartKey || file.Part == serverconf.PartCombined ||
		file.Part == serverconf.PartKeystore
	if _, fits := ring.Of(s.Leaf.PublicKey); fits != wantsKey || keys > 1 {
		return fmt.Errorf("it has %d private keys", keys)
	}
	if want := s.expected(f, file); !slices.Equal(got, want) {
		return fmt.Errorf("it has %d certificates, not %d, or in another order", len(got), len(want))
	}
	return nil
}

// expected are the certificates of a file.
func (s *Set) expected(f Form, file File) []pki.Fingerprint {
	var out []pki.Fingerprint
	add := func(list ...*pki.Certificate) {
		for _, c := range list {
			if c != nil {
				out = append(out, c.Fingerprint())
			}
		}
	}
	above := s.Chain
	if f.WithRoot && s.Root != nil {
		above = append(above[:len(above):len(above)], s.Root)
	}
	switch file.Part {
	case serverconf.PartKey:
	case serverconf.PartLeaf:
		add(s.Leaf)
	case serverconf.PartRoot:
		add(s.Root)
	case serverconf.PartChain:
		if f.Shape == serverconf.Split {
			add(above...)
			break
		}
		for _, c := range above { // one of them, each in a file of its own
			if bytes.Contains(file.Data, c.Raw) || string(file.Data) == c.PEM() {
				add(c)
			}
		}
	default:
		add(s.Leaf)
		add(above...)
	}
	return out
}
