package outbound_test

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/outbound"
)

// TestVisits: what an endpoint of the estate may lead to.
func TestVisits(t *testing.T) {
	allowed, err := outbound.ParseNetworks([]string{"127.7.0.0/16", "169.254.7.0/24=636"})
	require.NoError(t, err)
	gate := outbound.Visits(netip.MustParseAddrPort("127.0.0.1:8410"), allowed)
	for at, want := range map[string]bool{
		"198.41.0.4:443": true, "10.1.2.3:25": true, "192.168.0.1:1": true, "100.64.1.1:443": true,
		"192.0.2.7:443":     true,
		"[2001:db8::7]:443": true, "[fd12::1]:443": true,
		"127.0.0.1:8410": true, "127.0.0.1:5432": false, "127.0.0.2:8410": false, "[::1]:8410": false,
		"127.7.1.1:22": true, "169.254.7.7:636": true, "169.254.7.7:443": false,
		"169.254.169.254:80": false, "[fe80::1]:443": false, "[fe80::1%eth0]:443": false, "[fd00:ec2::254]:80": false,
		"100.100.100.200:80": false, "0.0.0.0:443": false, "[::]:443": false, "224.0.0.1:443": false,
		"255.255.255.255:443": false,
		"[ff02::1]:443":       false, "[::ffff:127.0.0.1]:443": false, "[::ffff:10.0.0.1]:443": true,
		"[::127.0.0.1]:443":        false,
		"[64:ff9b::127.0.0.1]:443": false, "[64:ff9b::10.0.0.1]:443": true, "[64:ff9b::a9fe:a9fe]:80": false,
		"0.1.2.3:443": false,
	} {
		err := gate.Check(netip.MustParseAddrPort(at))
		assert.Equal(t, want, err == nil, at)
		if !want {
			assert.ErrorContains(t, err, "--allow-visit ", at)
		}
	}
	everywhere := outbound.Visits(netip.MustParseAddrPort("[::]:8443"), nil)
	for at, want := range map[string]bool{"127.0.0.1:8443": true, "[::1]:8443": true, "127.0.0.1:22": false,
		"[::]:8443": false} {
		assert.Equal(t, want, everywhere.Check(netip.MustParseAddrPort(at)) == nil, at)
	}
	assert.ErrorContains(t, outbound.Issuers(nil).Check(netip.MustParseAddrPort("10.0.0.1:80")),
		"--allow-network 10.0.0.1/32=80")
}
