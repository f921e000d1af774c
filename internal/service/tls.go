package service

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// reloadTime is how often it is looked whether the service's own certificate has changed.
const reloadTime = 2 * time.Second

// ownCertificate is the service's own certificate and key, read anew when the files change.
type ownCertificate struct {
	certificate, key string // paths
	log              *slog.Logger

	mutex  sync.Mutex
	loaded *tls.Certificate
	stamp  string    // of the files that were loaded
	looked time.Time // when they were looked at last
}

// openCertificate reads certificate and key for the first time.
func openCertificate(certificate, key string, log *slog.Logger) (*ownCertificate, error) {
	c := &ownCertificate{certificate: certificate, key: key, log: log}
	stamp, err := c.stampOf()
	if err != nil {
		return nil, err
	}
	return c, c.load(stamp)
}

// stampOf tells whether the files are the same as before.
func (c *ownCertificate) stampOf() (string, error) {
	var out string
	for _, path := range []string{c.certificate, c.key} {
		info, err := os.Stat(path)
		if err != nil {
			return "", err
		}
		out += fmt.Sprint(info.ModTime().UnixNano(), info.Size(), ";")
	}
	return out, nil
}

func (c *ownCertificate) load(stamp string) error {
	pair, err := tls.LoadX509KeyPair(c.certificate, c.key)
	if err != nil {
		return fmt.Errorf("the service's own certificate (%s with %s): %w; \"nurvik pair %s %s\" says what belongs "+
			"together", c.certificate, c.key, err, c.certificate, c.key)
	}
	c.loaded, c.stamp = &pair, stamp
	return nil
}

// get returns the certificate. Files that cannot be read change nothing: the one before is served, and the log says so.
func (c *ownCertificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if now := time.Now(); now.Sub(c.looked) >= reloadTime {
		c.looked = now
		stamp, err := c.stampOf()
		if err == nil && stamp != c.stamp {
			if err = c.load(stamp); err == nil {
				c.log.Info("the service's own certificate was read anew", "file", c.certificate)
			}
		}
		if err != nil {
			c.log.Error("the service's own certificate could not be read; the one before is served", "error", err)
		}
	}
	return c.loaded, nil
}

// settings are those of the service's own TLS: 1.3, and 1.2 with forward secrecy and authenticated encryption.
func (c *ownCertificate) settings() *tls.Config {
	return &tls.Config{GetCertificate: c.get, MinVersion: tls.VersionTLS12,
		CipherSuites: []uint16{
			tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,
			tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384, tls.TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384,
			tls.TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256, tls.TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256,
		}}
}
