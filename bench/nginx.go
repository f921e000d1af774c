package main

import (
	"context"
	"crypto/ecdsa"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"
)

// nginxProgram is where Debian has it.
const nginxProgram = "/usr/sbin/nginx"

// serveNginx answers on every loopback address with the server of the name, whose certificate and key these are. It
// returns the port, and what ends the server.
func serveNginx(directory string, chain [][]byte, key *ecdsa.PrivateKey) (port int, stop func(), err error) {
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		return 0, nil, err
	}
	port = l.Addr().(*net.TCPAddr).Port
	if err := l.Close(); err != nil {
		return 0, nil, err
	}
	pkcs8, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return 0, nil, err
	}
	material := pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: pkcs8})
	for _, der := range chain {
		material = slices.Concat(material, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}))
	}
	configuration := fmt.Sprintf(`
daemon off; master_process off; pid nginx.pid; error_log stderr crit; worker_rlimit_nofile 20000;
events { worker_connections 8192; }
http {
  access_log off; client_body_temp_path body; proxy_temp_path proxy;
  fastcgi_temp_path fastcgi; uwsgi_temp_path uwsgi; scgi_temp_path scgi;
  server {
    listen 0.0.0.0:%d ssl http2 backlog=4096; ssl_certificate all.pem; ssl_certificate_key all.pem;
    ssl_protocols TLSv1.2 TLSv1.3; ssl_ecdh_curve X25519:prime256v1:secp384r1;
    ssl_ciphers ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-ECDSA-AES256-GCM-SHA384:ECDHE-ECDSA-CHACHA20-POLY1305;
    location / { return 204; }
  }
}
`, port)
	for name, data := range map[string][]byte{"all.pem": material, "nginx.conf": []byte(configuration)} {
		if err := os.WriteFile(filepath.Join(directory, name), data, 0o600); err != nil {
			return 0, nil, err
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, nginxProgram, "-p", directory, "-c", "nginx.conf", "-e", "stderr")
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		cancel()
		return 0, nil, err
	}
	stop = func() { cancel(); _ = cmd.Wait() } // it is ended by us
	for range 100 {
		conn, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			return port, stop, conn.Close()
		}
		time.Sleep(50 * time.Millisecond)
	}
	stop()
	return 0, nil, fmt.Errorf("nginx does not listen on port %d", port)
}
