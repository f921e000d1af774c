package main

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
)

const (
	hostCount  = 5000 // virtual hosts in one configuration tree
	hostTime   = 10 * time.Second
	hostMemory = 300_000_000 // bytes
)

// hostRows measure an audit of one web server with many virtual hosts: configuration, files and pairing.
func hostRows(directory string, out table.Writer) (missed bool, err error) {
	root := filepath.Join(directory, "hosts")
	if err := writeVirtualHosts(root, hostCount); err != nil {
		return false, err
	}
	delete(most, "client")
	started := time.Now()
	if err := child("client", "audit --no-revocation --no-shared-primes "+root); err != nil {
		return false, err
	}
	took := time.Since(started)
	out.AppendRow(table.Row{fmt.Sprintf("audit, %d virtual hosts with their files", hostCount),
		took.Round(time.Millisecond), "", "", hostTime, word(took <= hostTime, &missed)})
	out.AppendRow(table.Row{"the same: memory", fmt.Sprintf("%d MB", most["client"]/1_000_000), "", "",
		fmt.Sprintf("%d MB", hostMemory/1_000_000), word(most["client"] <= hostMemory, &missed)})
	return missed, nil
}

// writeVirtualHosts writes the configuration of nginx, a file each host, and a key and a chain for each.
func writeVirtualHosts(root string, count int) error {
	f, err := newFamily()
	if err != nil {
		return err
	}
	for _, d := range []string{"nginx/sites-enabled", "ssl"} {
		if err := os.MkdirAll(filepath.Join(root, d), 0o755); err != nil {
			return err
		}
	}
	put := func(path string, data []byte) error { return os.WriteFile(filepath.Join(root, path), data, 0o600) }
	if err := put("nginx/nginx.conf",
		[]byte("events {}\nhttp {\n\tssl_protocols TLSv1.2 TLSv1.3;\n\tssl_ciphers ECDHE+AESGCM;\n"+
			"\tssl_prefer_server_ciphers on;\n\tinclude sites-enabled/*;\n}\n")); err != nil {
		return err
	}
	for i := range count {
		name := fmt.Sprintf("host-%d.tarnholm.example", i)
		key, err := f.key(i, false)
		if err != nil {
			return err
		}
		der, err := leaf(f.issuing, name, key)
		if err != nil {
			return err
		}
		pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
		if err != nil {
			return err
		}
		chain := bytes.Join([][]byte{block("CERTIFICATE", der), block("CERTIFICATE", f.issuing.DER)}, nil)
		for path, data := range map[string][]byte{
			fmt.Sprintf("ssl/%s.pem", name): chain,
			fmt.Sprintf("ssl/%s.key", name): pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8}),
			"nginx/sites-enabled/" + name: fmt.Appendf(nil, "server {\n\tlisten 443 ssl;\n\tserver_name %[1]s;\n"+
				"\tssl_certificate ../ssl/%[1]s.pem;\n\tssl_certificate_key ../ssl/%[1]s.key;\n}\n", name)} {
			if err := put(path, data); err != nil {
				return err
			}
		}
	}
	return nil
}
