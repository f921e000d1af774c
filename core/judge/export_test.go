package judge

import "math/rand/v2"

// Table are the codes of each row of the table.
func Table() [][]string {
	var out [][]string
	for _, c := range checks {
		out = append(out, c.codes)
	}
	return out
}

// Shuffle puts the rows of the table into another order, and returns what
// puts them back.
func Shuffle(seed uint64) (back func()) {
	before := append([]check(nil), checks...)
	rand.New(rand.NewPCG(seed, seed)).Shuffle(len(checks),
		func(i, j int) { checks[i], checks[j] = checks[j], checks[i] })
	return func() { checks = before }
}
