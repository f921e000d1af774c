package pki

import "nurvik/core/plain"

// Printable makes text of a certificate fit for terminals, pages and databases.
func Printable(text string) string { return plain.Name(text) }
