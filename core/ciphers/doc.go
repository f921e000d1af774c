// Package ciphers expands what the configuration of servers says of cipher
// suites: the cipher lists of OpenSSL, the priority strings of GnuTLS, and the
// lists and disabled algorithms of Java. What a list allows is found out from
// data, before any server is started with it.
package ciphers
