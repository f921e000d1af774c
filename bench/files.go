package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/intake"
)

// fileCount is how many files are read.
const fileCount = 100_000

// fileFigure: reading many certificate files against a bare loop of the standard library.
func fileFigure(directory string) (figure, error) {
	root := filepath.Join(directory, "files")
	if err := writeFiles(root); err != nil {
		return figure{}, err
	}
	return figure{
		name: fmt.Sprintf("read %d files: wall time, against a loop of the standard library that parses them", fileCount), limit: 1,
		ours: func() error {
			count := 0
			var failure error
			err := new(intake.Reader).Walk(context.Background(), root, func(f facts.File) { count += len(f.Certificates()) }, func(_ string, err error) { failure = err })
			return enough(count, err, failure)
		},
		floor: func() error {
			count := 0
			err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
				if err != nil || d.IsDir() {
					return err
				}
				data, err := os.ReadFile(path)
				if err != nil {
					return err
				}
				block, _ := pem.Decode(data)
				if block == nil {
					return fmt.Errorf("%s holds no block", path)
				}
				if _, err := x509.ParseCertificate(block.Bytes); err != nil {
					return err
				}
				count++
				return nil
			})
			return enough(count, err, nil)
		},
	}, nil
}

func enough(count int, errs ...error) error {
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	if count != fileCount {
		return fmt.Errorf("%d of %d certificates were read", count, fileCount)
	}
	return nil
}

func writeFiles(root string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	spki, err := forge.PublicInfo(key)
	if err != nil {
		return err
	}
	issuer, err := forge.NewAuthority(nil, key, forge.ECDSASHA256, forge.Template{Name: "Bench Root", From: time.Unix(1.7e9, 0), Until: time.Unix(2e9, 0)})
	if err != nil {
		return err
	}
	der, err := forge.Issue(issuer, nil, forge.Template{Name: "tides.tarnholm.example", Names: []string{"tides.tarnholm.example"}, SPKI: spki, From: time.Unix(1.75e9, 0), Until: time.Unix(1.8e9, 0)})
	if err != nil {
		return err
	}
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
	for i := range fileCount {
		folder := filepath.Join(root, fmt.Sprintf("%03d", i/1000))
		if i%1000 == 0 {
			if err := os.MkdirAll(folder, 0o700); err != nil {
				return err
			}
		}
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("%03d.pem", i%1000)), text, 0o600); err != nil {
			return err
		}
	}
	return nil
}
