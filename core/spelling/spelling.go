// Package spelling finds the word that a mistyped one may be meant for.
package spelling

import "strings"

// reach is from how many slips on a word is another word.
const reach = 3

// Nearest returns the known word with the fewest slips in it, the first of
// several, and "" where every one has too many. Case does not count.
func Nearest(word string, known []string) string {
	best, least := "", reach
	for _, k := range known {
		if n := slips(strings.ToLower(k), strings.ToLower(word)); n < least {
			best, least = k, n
		}
	}
	return best
}

// slips counts the letters to add, drop, change, or swap with their neighbour
// to make one word of the other, at most reach.
func slips(a, b string) int {
	if len(a)-len(b) >= reach || len(b)-len(a) >= reach {
		return reach
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
	return min(rows[len(a)][len(b)], reach)
}
