// Package serverconf reads the configuration of servers that use certificates:
// which places listen, with which certificate and key, with which versions and
// cipher suites, each with file and line. Each kind of server has a file of its
// own, where its recognition, its reading, its defaults, and how it writes a
// directive live together; kinds.go lists them. What is not understood is said,
// never skipped.
package serverconf
