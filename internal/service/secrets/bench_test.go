package secrets_test

import (
	"crypto/rand"
	"encoding/base64"
	"testing"

	"nurvik/internal/service/secrets"
)

// BenchmarkLargeList is a line with a CRL of 10 MiB.
func BenchmarkLargeList(b *testing.B) {
	data := make([]byte, 10<<20)
	_, _ = rand.Read(data)
	line := []byte(`{"der":"` + base64.StdEncoding.EncodeToString(data) + `"}`)
	b.SetBytes(int64(len(line)))
	for b.Loop() {
		if secrets.InJSON(line) {
			b.Fatal("it is none")
		}
	}
}
