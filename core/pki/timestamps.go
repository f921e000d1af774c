package pki

import (
	"encoding/binary"
	"time"

	"golang.org/x/crypto/cryptobyte"
	"golang.org/x/crypto/cryptobyte/asn1"
)

// Timestamp is a signed certificate timestamp: the promise of a log that it will publish the certificate (RFC 6962,
// 3.2).
type Timestamp struct {
	Log [32]byte // SHA-256 of the log's key
	At  time.Time
}

// oidAnsweredTimestamps is the extension of an OCSP response (RFC 6962, 3.3).
const oidAnsweredTimestamps OID = "1.3.6.1.4.1.11129.2.4.5"

// ParseTimestamp decodes one timestamp of version 1.
func ParseTimestamp(data []byte) (Timestamp, bool) {
	s := cryptobyte.String(data)
	var version uint8
	var millis [8]byte
	var t Timestamp
	var extensions cryptobyte.String
	if !s.ReadUint8(&version) || version != 0 || !s.CopyBytes(t.Log[:]) || !s.CopyBytes(millis[:]) ||
		!s.ReadUint16LengthPrefixed(&extensions) || len(s) < 5 { // a signature of some length
		return t, false
	}
	t.At = time.UnixMilli(int64(binary.BigEndian.Uint64(millis[:]) & (1<<62 - 1))).UTC()
	return t, true
}

// parseTimestamps decodes the list in the OCTET STRING of an extension; those that cannot be read are left out.
func parseTimestamps(value []byte) (out []Timestamp) {
	var octets, list, one cryptobyte.String
	s := cryptobyte.String(value)
	if !s.ReadASN1(&octets, asn1.OCTET_STRING) || !octets.ReadUint16LengthPrefixed(&list) {
		return nil
	}
	for !list.Empty() && list.ReadUint16LengthPrefixed(&one) {
		if t, ok := ParseTimestamp(one); ok {
			out = append(out, t)
		}
	}
	return out
}

// Timestamps are those inside the certificate (RFC 6962, 3.3).
func (c *Certificate) Timestamps() []Timestamp {
	for _, x := range c.Extensions {
		if x.ID == oidTimestamps {
			return parseTimestamps(x.Value)
		}
	}
	return nil
}
