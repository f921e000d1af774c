package probe_test

import (
	"crypto/tls"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"

	"nurvik/core/facts"
	"nurvik/core/probe"
)

// TestApplicationProtocols: each protocol is offered by its registered value, and another manner is tried where that is
// refused. Go's server refuses a list without a common value (RFC 7301, 3.2).
func TestApplicationProtocols(t *testing.T) {
	demanding := func(config *tls.Config) { // refuses who offers nothing
		config.GetConfigForClient = func(h *tls.ClientHelloInfo) (*tls.Config, error) {
			if len(h.SupportedProtos) == 0 {
				return nil, errors.New("it wants an application protocol")
			}
			return nil, nil
		}
	}
	tests := []struct {
		name, scheme string
		knows        []string
		change       func(*tls.Config)
		alpn         string
	}{
		{"the web", "https", []string{"h2", "http/1.1"}, nil, "h2"},
		{"the web, HTTP/2 alone", "https", []string{"h2"}, nil, "h2"},
		{"the web, something else", "https", []string{"coap"}, nil, ""},
		{"mail to be read", "imaps", []string{"imap"}, nil, "imap"},
		{"mail to be fetched", "pop3s", []string{"pop3"}, nil, "pop3"},
		{"files", "ftps", []string{"ftp"}, nil, "ftp"},
		{"messages", "xmpps", []string{"xmpp-client"}, nil, "xmpp-client"},
		{"a directory", "ldaps", []string{"ldap"}, nil, ""},
		{"mail, which asks for nothing", "smtps", []string{"smtp"}, nil, ""},
		{"mail that wants its value", "smtps", []string{"smtp"}, demanding, "smtp"},
		{"mail to be read, by a server that knows the web", "imaps", []string{"http/1.1"}, nil, ""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			config := &tls.Config{NextProtos: tt.knows,
				Certificates: []tls.Certificate{certificate(t, "EC", "tides.tarnholm.example")}}
			if tt.change != nil {
				tt.change(config)
			}
			o := observe(t, config, probe.Call{Scheme: tt.scheme, Web: tt.scheme == "https",
				ServerName: "tides.tarnholm.example", Effort: facts.Quick})
			assert.Equal(t, facts.Answered, o.Outcome, o.Detail)
			assert.NotEmpty(t, o.Certificates)
			assert.Empty(t, o.Unseen)
			assert.Equal(t, tt.alpn, o.Settings.ALPN)
			assert.NotEqual(t, facts.No, o.Settings.ToleratesUnknown)
		})
	}
}
