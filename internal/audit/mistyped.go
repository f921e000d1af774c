package audit

import (
	"os"
	"path/filepath"
	"strings"
)

// fileEndings are those of files that a call may name; no host name of the
// public DNS ends so.
var fileEndings = []string{".yaml", ".yml", ".pem", ".pme", ".crt", ".cer", ".cert", ".der", ".key", ".csr", ".p12", ".pfx", ".p7b", ".jks", ".zip", ".tar", ".tgz", ".json", ".txt", ".conf"}

// mistyped looks for the file that may be meant by a target which is no file
// and would be taken for a host name: one in this directory whose name is
// nearly the same. It is "" where none is.
func mistyped(target string) string {
	if strings.ContainsAny(target, ":/") {
		return ""
	}
	entries, err := os.ReadDir(".")
	if err != nil {
		return ""
	}
	best, least := "", 3 // so many letters may be wrong
	for _, e := range entries {
		name := e.Name()
		looksFile := hasEnding(name) || hasEnding(target)
		if d := distance(strings.ToLower(name), strings.ToLower(target), least); looksFile && d < least {
			best, least = name, d
		}
	}
	return best
}

func hasEnding(name string) bool {
	ending := strings.ToLower(filepath.Ext(name))
	for _, e := range fileEndings {
		if e == ending {
			return true
		}
	}
	return false
}

// distance is how many letters have to be added, removed, changed or swapped
// with their neighbour, at most the limit.
func distance(a, b string, limit int) int {
	if len(a)-len(b) >= limit || len(b)-len(a) >= limit {
		return limit
	}
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return min(rows[len(a)][len(b)], limit)
}
