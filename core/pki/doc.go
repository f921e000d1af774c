// Package pki is the object model of certificates and keys, and a tolerant
// decoder of their DER.
//
// The decoder differs from a client's: a client refuses a certificate with a
// defect and says so in one word, an auditor must read on and name every
// defect. So a defect that leaves the rest readable becomes an [Anomaly] with
// its byte offset, and [ParseCertificate] returns an error only when the outer
// structure cannot be followed.
//
// A certificate is known by the SHA-256 of its DER, a key by the SHA-256 of its
// SubjectPublicKeyInfo.
package pki
