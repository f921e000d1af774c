package tlswire

import "fmt"

// Alert is an alert that the peer sent (RFC 8446, 6).
type Alert struct {
	Level       byte
	Description byte
}

// alertNames: IANA "TLS Alerts".
var alertNames = map[byte]string{
	0: "close_notify", 10: "unexpected_message", 20: "bad_record_mac", 22: "record_overflow", 40: "handshake_failure",
	42: "bad_certificate", 43: "unsupported_certificate", 46: "certificate_unknown", 47: "illegal_parameter", 48: "unknown_ca",
	49: "access_denied", 50: "decode_error", 51: "decrypt_error", 70: "protocol_version", 71: "insufficient_security",
	80: "internal_error", 86: "inappropriate_fallback", 90: "user_canceled", 109: "missing_extension",
	110: "unsupported_extension", 112: "unrecognized_name", 116: "certificate_required", 120: "no_application_protocol",
}

// Name is the alert's registered name.
func (a Alert) Name() string {
	if name, ok := alertNames[a.Description]; ok {
		return name
	}
	return fmt.Sprintf("alert %d", a.Description)
}

// AlertError says that the peer answered with an alert.
type AlertError struct{ Alert Alert }

func (e *AlertError) Error() string { return "the endpoint answered with the alert " + e.Alert.Name() }
