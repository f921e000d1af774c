// Package compare says what changed between two things: a request and the
// certificate that was issued for it, an old certificate and its successor, a
// file and an endpoint, two bundles, two trust stores, two visits. It says of
// each difference whether it matters: whether somebody relies on what is gone.
package compare
