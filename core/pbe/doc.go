// Package pbe undoes password-based encryption as it is met in keys and
// keystores: PBES1 and PBES2 (RFC 8018), the schemes of PKCS#12 (RFC 7292),
// encrypted PEM of the older kind, and the two protections of Java keystores.
//
// It only reads. Old and weak schemes are here because old files are, and an
// auditor has to say what is in them.
package pbe
