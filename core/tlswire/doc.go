// Package tlswire speaks TLS on the wire far enough to learn what an endpoint
// accepts: it writes ClientHellos of TLS 1.0 to 1.3 and reads the records,
// alerts, ServerHellos and, up to TLS 1.2, Certificate messages that come back
// (RFC 5246, RFC 8446).
//
// A client library cannot be used for this: it refuses what an auditor must
// see, such as obsolete versions and certificates that it cannot parse.
package tlswire
