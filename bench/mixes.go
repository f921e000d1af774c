package main

import (
	"bytes"
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
	"math/big"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	java "github.com/pavlo-v-chernykh/keystore-go/v4"
	pkcs12 "software.sslmate.com/src/go-pkcs12"

	"nurvik/core/forge"
)

// family is the issuers of a mix, and the numbers for its keys.
type family struct {
	root, issuing *forge.Authority
	primes        []*big.Int
}

func newFamily() (*family, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	f := &family{primes: make([]*big.Int, 180)} // enough pairs for the RSA keys
	for i := range f.primes {
		if f.primes[i], err = rand.Prime(rand.Reader, 1024); err != nil {
			return nil, err
		}
	}
	validity := forge.Template{Name: "Bench Root", From: time.Unix(1.7e9, 0), Until: time.Unix(2e9, 0)}
	if f.root, err = forge.NewAuthority(nil, key, forge.ECDSASHA256, validity); err != nil {
		return nil, err
	}
	validity.Name = "Bench Issuing"
	f.issuing, err = forge.NewAuthority(f.root, key, forge.ECDSASHA256, validity)
	return f, err
}

// rsaKey is an RSA key of two of the primes, another one for each number.
func (f *family) rsaKey(i int) (*rsa.PrivateKey, error) {
	a, b := i, 0
	for row := len(f.primes) - 1; a >= row; row-- {
		a, b = a-row, b+1
	}
	p, q := f.primes[b], f.primes[a+b+1]
	one := big.NewInt(1)
	key := &rsa.PrivateKey{Primes: []*big.Int{p, q}}
	key.N, key.E = new(big.Int).Mul(p, q), 65537
	key.D = new(big.Int).ModInverse(big.NewInt(65537), new(big.Int).Mul(new(big.Int).Sub(p, one),
		new(big.Int).Sub(q, one)))
	key.Precompute()
	return key, key.Validate()
}

func (f *family) key(i int, isRSA bool) (crypto.Signer, error) {
	if isRSA {
		return f.rsaKey(i)
	}
	return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
}

// leaf is a certificate of the issuer for a key.
func leaf(issuer *forge.Authority, name string, key crypto.Signer) ([]byte, error) {
	spki, err := forge.PublicInfo(key)
	if err != nil {
		return nil, err
	}
	return forge.Issue(issuer, nil, forge.Template{Name: name, Names: []string{name}, SPKI: spki,
		From: time.Unix(1.75e9, 0), Until: time.Unix(1.77e9, 0)})
}

func block(label string, der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der})
}

// inParallel runs write for each number, on all processors, until one fails.
func inParallel(count int, write func(i int) error) error {
	var group sync.WaitGroup
	failures := make([]error, runtime.GOMAXPROCS(0))
	for worker := range failures {
		group.Go(func() {
			for i := worker; i < count && failures[worker] == nil; i += len(failures) {
				failures[worker] = write(i)
			}
		})
	}
	group.Wait()
	return errors.Join(failures...)
}

func request(name string, key crypto.Signer) ([]byte, error) {
	return x509.CreateCertificateRequest(rand.Reader,
		&x509.CertificateRequest{Subject: pkix.Name{CommonName: name}, DNSNames: []string{name}}, key)
}

// writeServices makes 25,000 services, each with key, request, certificate and
// chain; every fourth has an RSA key, the others P-256.
func writeServices(root string, f *family) error {
	return inParallel(fileCount/4, func(i int) error {
		name := fmt.Sprintf("berth-%d.tarnholm.example", i)
		key, err := f.key(i/4, i%4 == 0)
		if err != nil {
			return err
		}
		csr, err := request(name, key)
		if err != nil {
			return err
		}
		der, err := leaf(f.root, name, key)
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
		certificate := block("CERTIFICATE", der)
		for suffix, data := range map[string][]byte{
			".key": block("PRIVATE KEY", private), ".csr": block("CERTIFICATE REQUEST", csr),
			".crt": certificate, "-chain.pem": append(certificate, block("CERTIFICATE", f.root.DER)...),
		} {
			if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("berth-%d%s", i, suffix)), data,
				0o600); err != nil {
				return err
			}
		}
		return nil
	})
}

// writeMixed makes what lies on machines that hand certificates out: 60,000 lone
// leaves, 15,000 chains of two, 10,000 requests and 15,000 keys in their three
// structures, readable by everybody, in 1,000 directories.
func writeMixed(root string, f *family) error {
	for i := range 1000 {
		if err := os.MkdirAll(filepath.Join(root, fmt.Sprintf("%03d", i)), 0o755); err != nil {
			return err
		}
	}
	return inParallel(fileCount, func(i int) error {
		name := fmt.Sprintf("crane-%d.tarnholm.example", i)
		data, suffix, err := f.heapFile(i, name)
		if err != nil {
			return err
		}
		path := filepath.Join(root, fmt.Sprintf("%03d", i%1000), fmt.Sprintf("crane-%d%s", i, suffix))
		return os.WriteFile(path, data, 0o644)
	})
}

func (f *family) heapFile(i int, name string) (data []byte, suffix string, err error) {
	part := i % 20 // 12 leaves, 3 chains, 2 requests, 3 keys
	key, err := f.key(i/20, i%40 == 17)
	if err != nil {
		return nil, "", err
	}
	switch {
	case part < 15:
		der, err := leaf(f.issuing, name, key)
		data = block("CERTIFICATE", der)
		if part >= 12 {
			data = append(data, block("CERTIFICATE", f.issuing.DER)...)
		}
		return data, ".pem", err
	case part < 17:
		der, err := request(name, key)
		return block("CERTIFICATE REQUEST", der), ".csr", err
	}
	var der []byte
	label := "PRIVATE KEY"
	switch _, isRSA := key.(*rsa.PrivateKey); {
	case part == 17 && !isRSA:
		label = "EC PRIVATE KEY"
		ec, _ := key.(*ecdsa.PrivateKey)
		der, err = x509.MarshalECPrivateKey(ec)
	case part == 18:
		var private *rsa.PrivateKey
		if private, err = f.rsaKey(i / 20); err == nil {
			label, der = "RSA PRIVATE KEY", x509.MarshalPKCS1PrivateKey(private)
		}
	default:
		der, err = x509.MarshalPKCS8PrivateKey(key)
	}
	return block(label, der), ".key", err
}

const benchPassword = "Lodestar 7"

// writeStores makes few directories of large bundles and keystores.
func writeStores(root string, f *family) error {
	const folders, bundle, stores, entries = 10, 2500, 40, 25
	for i := range folders {
		if err := os.MkdirAll(filepath.Join(root, fmt.Sprint(i)), 0o755); err != nil {
			return err
		}
	}
	return inParallel(folders*(stores+2), func(i int) error {
		folder, number := filepath.Join(root, fmt.Sprint(i%folders)), i/folders
		write := func(suffix string, data []byte) error {
			return os.WriteFile(filepath.Join(folder, fmt.Sprintf("berth-%d%s", number, suffix)), data, 0o644)
		}
		name := fmt.Sprintf("store-%d.tarnholm.example", i)
		var out bytes.Buffer
		switch {
		case number < 2:
			for n := range bundle {
				key, err := f.key(n, false)
				if err != nil {
					return err
				}
				der, err := leaf(f.issuing, fmt.Sprintf("%d.%s", n, name), key)
				if err != nil {
					return err
				}
				out.Write(block("CERTIFICATE", der))
			}
			return write(".pem", out.Bytes())
		case number%2 == 0:
			key, err := f.key(i, i%4 == 0)
			if err != nil {
				return err
			}
			der, err := leaf(f.issuing, name, key)
			if err != nil {
				return err
			}
			own, err := x509.ParseCertificate(der)
			if err != nil {
				return err
			}
			above, err := x509.ParseCertificate(f.issuing.DER)
			if err != nil {
				return err
			}
			data, err := pkcs12.Modern.Encode(key, own, []*x509.Certificate{above}, benchPassword)
			if err != nil {
				return err
			}
			return write(".p12", data)
		}
		store := java.New()
		for n := range entries {
			key, err := f.key(n, false)
			if err != nil {
				return err
			}
			der, err := leaf(f.issuing, fmt.Sprintf("%d.%s", n, name), key)
			if err != nil {
				return err
			}
			private, err := x509.MarshalPKCS8PrivateKey(key)
			if err != nil {
				return err
			}
			err = store.SetPrivateKeyEntry(fmt.Sprintf("entry-%d", n),
				java.PrivateKeyEntry{CreationTime: time.Unix(1.75e9, 0),
					PrivateKey: private, CertificateChain: []java.Certificate{{Type: "X509", Content: der},
						{Type: "X509", Content: f.issuing.DER}}}, []byte(benchPassword))
			if err != nil {
				return err
			}
		}
		if err := store.Store(&out, []byte(benchPassword)); err != nil {
			return err
		}
		return write(".jks", out.Bytes())
	})
}

// writeLeaves makes one file of so many leaves.
func writeLeaves(path string, f *family, count int) error {
	all := make([][]byte, count)
	err := inParallel(count, func(i int) error {
		key, err := f.key(i, false)
		if err != nil {
			return err
		}
		der, err := leaf(f.root, fmt.Sprintf("buoy-%d.tarnholm.example", i), key)
		all[i] = block("CERTIFICATE", der)
		return err
	})
	if err != nil {
		return err
	}
	return os.WriteFile(path, bytes.Join(all, nil), 0o644)
}
