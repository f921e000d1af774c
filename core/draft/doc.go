// Package draft makes private keys and the certificate requests (PKCS#10, RFC
// 2986) for them: from what a person wishes, from a plan of many, or like a
// certificate or request that is there already. It reads and writes no files
// and keeps nothing.
package draft
