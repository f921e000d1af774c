// Package probe visits endpoints: it finds the addresses of a name, and on each
// address learns in as few connections as possible what is served there. The
// result is facts; what they mean, others say.
//
// Network and clock come in as parameters.
package probe
