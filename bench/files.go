package main

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"syscall"
	"time"

	"nurvik/core/brief"
	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/intake"
	"nurvik/core/judge"
	"nurvik/core/policy"
	"nurvik/internal/cli"
)

// fileCount is how many files are read: certificates, keys, requests and chains in equal parts.
const fileCount = 100_000

// fileFigure: identifying and pairing many files of all kinds, with every check
// but that for shared prime factors, against a bare loop that reads, decodes
// and parses them with the standard library on all processors.
func fileFigure(directory string) (figure, error) {
	root := filepath.Join(directory, "files")
	if err := writeFiles(root); err != nil {
		return figure{}, err
	}
	return figure{
		name: fmt.Sprintf("identify and pair %d files: wall time, against a parallel loop of the standard library "+
			"that parses them", fileCount), limit: 1,
		ours: func() error { return child("identify", root) }, floor: func() error { return child("parse", root) },
	}, nil
}

// children are what runs in a process of its own, as it would outside of this program.
var children = map[string]func(string) error{"identify": identify, "parse": bareParse, "heap": judgeHeap,
	"visit": visitAll, "bare": bareAll}

// most is the largest memory that a child had in use, in bytes, by its name.
var most = map[string]int64{}

// spent is the processor time of the children, by their name.
var spent = map[string]time.Duration{}

// child runs a part in a process of its own and notes its memory.
func child(name, argument string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self, name, argument)
	cmd.Stderr = os.Stderr
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	spent[name] += cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
	if usage, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		most[name] = max(most[name], usage.Maxrss<<10) // Linux counts kibibytes
	}
	return nil
}

// identify does what "nurvik pair --no-shared-primes" does before it prints.
func identify(root string) error {
	cli.LimitMemory()
	p, err := policy.Builtin(policy.Default)
	if err != nil {
		return err
	}
	var files []facts.File
	var failure error
	memory := new(brief.Memory)
	reader := &intake.Reader{Memory: memory}
	err = reader.Walk(context.Background(), root, func(f facts.File) { files = append(files, f) },
		func(_ string, err error) { failure = err })
	if err := errors.Join(err, failure); err != nil {
		return err
	}
	judgements, result := judge.Files(files, judge.Context{Policy: p, At: time.Unix(1.76e9, 0), Material: true,
		Memory: memory})
	if len(judgements) != fileCount || len(result.Groups) != fileCount/4 {
		return fmt.Errorf("%d files were judged and %d groups found", len(judgements), len(result.Groups))
	}
	return nil
}

// bareParse reads and parses every file, as many at once as there are processors.
func bareParse(root string) error {
	paths := make(chan string, 1000)
	failures := make(chan error, runtime.GOMAXPROCS(0)+1)
	var group sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			var failure error
			for path := range paths {
				if failure == nil {
					failure = bareFile(path)
				}
			}
			failures <- failure
		})
	}
	failures <- filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			paths <- path
		}
		return err
	})
	close(paths)
	group.Wait()
	close(failures)
	var all error
	for failure := range failures {
		all = errors.Join(all, failure)
	}
	return all
}

func bareFile(path string) error {
	data, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	for len(data) > 0 {
		var block *pem.Block
		if block, data = pem.Decode(data); block == nil {
			return fmt.Errorf("%s holds no block", path)
		}
		switch block.Type {
		case "CERTIFICATE":
			_, err = x509.ParseCertificate(block.Bytes)
		case "CERTIFICATE REQUEST":
			_, err = x509.ParseCertificateRequest(block.Bytes)
		default:
			_, err = x509.ParsePKCS8PrivateKey(block.Bytes)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// writeFiles makes 25,000 services, each with key, request, certificate and
// chain; every fourth has an RSA key, the others P-256.
func writeFiles(root string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	issuer, err := forge.NewAuthority(nil, key, forge.ECDSASHA256,
		forge.Template{Name: "Bench Root", From: time.Unix(1.7e9, 0), Until: time.Unix(2e9, 0)})
	if err != nil {
		return err
	}
	primes := make([]*big.Int, 115) // enough pairs for the RSA keys
	for i := range primes {
		if primes[i], err = rand.Prime(rand.Reader, 1024); err != nil {
			return err
		}
	}
	var group sync.WaitGroup
	failures := make([]error, runtime.GOMAXPROCS(0))
	for worker := range failures {
		group.Go(func() {
			for i := worker; i < fileCount/4 && failures[worker] == nil; i += len(failures) {
				key, err := serviceKey(i, primes)
				if err == nil {
					err = writeService(root, i, key, issuer)
				}
				failures[worker] = err
			}
		})
	}
	group.Wait()
	return errors.Join(failures...)
}

// serviceKey is a P-256 key, or for every fourth service an RSA key of two of the primes.
func serviceKey(i int, primes []*big.Int) (crypto.Signer, error) {
	if i%4 != 0 {
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	}
	a, b := i/4, 0
	for row := len(primes) - 1; a >= row; row-- {
		a, b = a-row, b+1
	}
	p, q := primes[b], primes[a+b+1]
	one := big.NewInt(1)
	key := &rsa.PrivateKey{Primes: []*big.Int{p, q}}
	key.N, key.E = new(big.Int).Mul(p, q), 65537
	key.D = new(big.Int).ModInverse(big.NewInt(65537), new(big.Int).Mul(new(big.Int).Sub(p, one),
		new(big.Int).Sub(q, one)))
	key.Precompute()
	return key, key.Validate()
}

func writeService(root string, i int, key crypto.Signer, issuer *forge.Authority) error {
	name := fmt.Sprintf("berth-%d.tarnholm.example", i)
	request, err := x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}}, key)
	if err != nil {
		return err
	}
	spki, err := forge.PublicInfo(key)
	if err != nil {
		return err
	}
	leaf, err := forge.Issue(issuer, nil, forge.Template{Name: name, Names: []string{name}, SPKI: spki,
		From: time.Unix(1.75e9, 0), Until: time.Unix(1.77e9, 0)})
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	folder := filepath.Join(root, fmt.Sprintf("%03d", i/250))
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	block := func(label string, der []byte) []byte { return pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der}) }
	certificate := block("CERTIFICATE", leaf)
	for suffix, data := range map[string][]byte{
		".key": block("PRIVATE KEY", private), ".csr": block("CERTIFICATE REQUEST", request),
		".crt": certificate, "-chain.pem": append(certificate, block("CERTIFICATE", issuer.DER)...),
	} {
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("berth-%d%s", i, suffix)), data, 0o600); err != nil {
			return err
		}
	}
	return nil
}
