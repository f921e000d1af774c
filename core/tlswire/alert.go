package tlswire

import "fmt"

// Alert is an alert that the peer sent (RFC 8446, 6).
type Alert struct {
	Level       byte
	Description byte
}

// alertNames: IANA "TLS Alerts".
var alertNames = map[byte]string{
	0: "close_notify", 1: "end_of_early_data", 10: "unexpected_message", 20: "bad_record_mac", 21: "decryption_failed",
	22: "record_overflow", 30: "decompression_failure",
	40: "handshake_failure", 41: "no_certificate", 42: "bad_certificate", 43: "unsupported_certificate",
	44: "certificate_revoked", 45: "certificate_expired",
	46: "certificate_unknown", 47: "illegal_parameter", 48: "unknown_ca", 49: "access_denied", 50: "decode_error",
	51: "decrypt_error", 60: "export_restriction",
	70: "protocol_version", 71: "insufficient_security", 80: "internal_error", 86: "inappropriate_fallback",
	90: "user_canceled", 100: "no_renegotiation",
	109: "missing_extension", 110: "unsupported_extension", 111: "certificate_unobtainable", 112: "unrecognized_name",
	113: "bad_certificate_status_response",
	114: "bad_certificate_hash_value", 115: "unknown_psk_identity", 116: "certificate_required",
	120: "no_application_protocol", 121: "ech_required",
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
