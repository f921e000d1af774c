// Package serverconf is what is known of the servers that use certificates:
// how each writes a directive, what it serves, and which files it wants.
package serverconf
