package main

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"time"

	"nurvik/core/assess"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/intake"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/trust"
)

const (
	chainCount      = 1000        // chains of three certificates below a root
	heapSize        = 5000        // certificates of one name
	heapTimeLimit   = time.Second // for an answer about the heap, from the file on
	heapMemoryLimit = 100_000_000 // bytes
)

var benchFrom, benchUntil = time.Unix(1.7e9, 0), time.Unix(1.9e9, 0)

// chainFigure: ordering, validating and judging chains of three RSA-2048
// certificates, the kind whose checks cost least, in one run, against a bare
// loop of the checks that each chain has. The run may remember the signatures of
// the CAs, as an audit does; the loop remembers nothing.
func chainFigure() (figure, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return figure{}, err
	}
	above := make([]*forge.Authority, 0, 3)
	var issuer *forge.Authority
	for _, name := range []string{"Root", "Services", "Issuing"} {
		if issuer, err = forge.NewAuthority(issuer, key, forge.RSASHA256,
			forge.Template{Name: name, From: benchFrom, Until: benchUntil}); err != nil {
			return figure{}, err
		}
		above = append(above, issuer)
	}
	spki, err := forge.PublicInfo(key)
	if err != nil {
		return figure{}, err
	}
	read := func(der []byte) *pki.Certificate {
		c, parseErr := pki.ParseCertificate(der)
		err = errors.Join(err, parseErr)
		return c
	}
	root, services, issuing := read(above[0].DER), read(above[1].DER), read(above[2].DER)
	store := trust.New("outer", []trust.Anchor{{Certificate: root, Kind: trust.Public}})
	leaves := make([]*pki.Certificate, chainCount)
	for i := range leaves {
		name := fmt.Sprintf("quay-%d.tarnholm.example", i)
		der, issueErr := forge.Issue(issuer, nil, forge.Template{Name: name, Names: []string{name}, SPKI: spki,
			From: benchFrom, Until: benchUntil})
		err = errors.Join(err, issueErr)
		leaves[i] = read(der)
	}
	if err != nil {
		return figure{}, err
	}
	at := time.Unix(1.8e9, 0)
	p, err := policy.Builtin(policy.Default)
	if err != nil {
		return figure{}, err
	}
	return figure{
		name: fmt.Sprintf("order, validate and judge %d chains of three: against the signature checks alone",
			chainCount), limit: 1.15,
		ours: func() error {
			engine := assess.New(assess.Options{At: at})
			engine.Learn(issuing.Raw, services.Raw)
			engine.Ready()
			for _, leaf := range leaves {
				served := facts.Observation{Address: netip.MustParseAddrPort("192.0.2.7:443"), At: at,
					Outcome: facts.Answered, Certificates: [][]byte{leaf.Raw, issuing.Raw, services.Raw}}
				j := engine.Endpoint(facts.Endpoint{Schema: facts.Schema, Endpoint: leaf.Label(),
					Observations: []facts.Observation{served}},
					assess.Expectation{Policy: p, Trust: []*trust.Store{store}})
				if len(j.Chains) != 1 || !j.Chains[0].View.Complete {
					return fmt.Errorf("%s is not valid", leaf.Label())
				}
			}
			return nil
		},
		floor: func() error {
			for _, leaf := range leaves {
				if err := errors.Join(leaf.CheckSignedBy(issuing.PublicKey), issuing.CheckSignedBy(services.PublicKey),
					services.CheckSignedBy(root.PublicKey)); err != nil {
					return err
				}
			}
			return nil
		},
	}, nil
}

// writeHeap makes a file of many certificates of one name, each signed by
// another of them, without key identifiers, and a leaf of that name.
func writeHeap(directory string) (path string, err error) {
	random := mathrand.New(mathrand.NewPCG(30, 63))
	keys := make([]crypto.Signer, heapSize)
	for i := range keys {
		if keys[i], err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
			return "", err
		}
	}
	issue := func(name string, key crypto.Signer, ca bool) []byte {
		spki, keyErr := forge.PublicInfo(key)
		by := &forge.Authority{Name: "Fog", Key: keys[random.IntN(heapSize)], Sign: forge.ECDSASHA256}
		der, issueErr := forge.Issue(by, nil, forge.Template{Name: name, SPKI: spki, From: benchFrom, Until: benchUntil,
			CA: ca, NoKeyIDs: true})
		err = errors.Join(err, keyErr, issueErr)
		return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	}
	out := issue("lost.tarnholm.example", keys[0], false)
	for _, key := range keys {
		out = append(out, issue("Fog", key, true)...)
	}
	path = filepath.Join(directory, "heap.pem")
	return path, errors.Join(err, os.WriteFile(path, out, 0o600))
}

// judgeHeap is what "nurvik chain" does with the file, from reading on.
func judgeHeap(path string) error {
	p, err := policy.Builtin(policy.Default)
	if err != nil {
		return err
	}
	files, err := new(intake.Reader).ReadFile(path)
	if err != nil {
		return err
	}
	j := judge.File(files[0], judge.Context{Policy: p, At: time.Unix(1.8e9, 0), Heap: true,
		Trust: []*trust.Store{trust.New("outer", nil)}})
	for _, f := range j.Findings {
		if f.Code == "chain.gave-up" {
			return nil
		}
	}
	return fmt.Errorf("the heap was judged %s without giving up", j.Verdict)
}

// heapFigure measures the answer about the heap in a process of its own.
func heapFigure(directory string) (took time.Duration, err error) {
	path, err := writeHeap(directory)
	if err != nil {
		return 0, err
	}
	started := time.Now()
	err = child("heap", path)
	return time.Since(started), err
}
