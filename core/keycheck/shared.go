package keycheck

import (
	"context"
	"math/big"
	"runtime"
	"sync"
)

// SharedPrimes finds moduli that have a prime in common with another of the
// list: for each, the factor, nil for none. Equal moduli share nothing by this
// count. It is Bernstein's batch method: one product of all, and remainders
// going down the same tree. progress, which may be nil, is told the steps; the
// error is the context's.
func SharedPrimes(ctx context.Context, moduli []*big.Int, progress func(done, total int)) ([]*big.Int, error) {
	distinct, index := unique(moduli)
	factors := make([]*big.Int, len(moduli))
	if len(distinct) < 2 {
		return factors, ctx.Err()
	}
	t := &treeWalk{ctx: ctx, progress: progress}
	levels := t.products(distinct)
	remainders := t.remainders(levels)
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	one := big.NewInt(1)
	for i, n := range distinct {
		factor := new(big.Int).GCD(nil, nil, remainders[i], n)
		if factor.Cmp(one) == 0 {
			continue
		}
		for j, at := range index {
			if at == i {
				factors[j] = factor
			}
		}
	}
	return factors, nil
}

// unique drops moduli that are not positive or met before, and tells for each of the given ones its place.
func unique(moduli []*big.Int) (distinct []*big.Int, index []int) {
	seen := map[string]int{}
	index = make([]int, len(moduli))
	for i, n := range moduli {
		key := string(n.Bytes())
		at, ok := seen[key]
		switch {
		case n.Sign() <= 0:
			at = -1
		case !ok:
			at = len(distinct)
			seen[key] = at
			distinct = append(distinct, n)
		}
		index[i] = at
	}
	return distinct, index
}

type treeWalk struct {
	ctx      context.Context
	progress func(done, total int)
	done     int
	total    int
	mutex    sync.Mutex
}

// products multiplies pairs, level by level, the leaves first.
func (t *treeWalk) products(leaves []*big.Int) [][]*big.Int {
	levels := [][]*big.Int{leaves}
	for n := len(leaves); n > 1; n = (n + 1) / 2 {
		t.total += 3 * ((n + 1) / 2) // a product here, two remainders on the way back
	}
	for level := leaves; len(level) > 1; {
		next := make([]*big.Int, (len(level)+1)/2)
		t.each(len(next), 1, func(i int) {
			if 2*i+1 == len(level) {
				next[i] = level[2*i]
			} else {
				next[i] = new(big.Int).Mul(level[2*i], level[2*i+1])
			}
		})
		levels = append(levels, next)
		level = next
		if t.ctx.Err() != nil {
			break
		}
	}
	return levels
}

// remainders takes down the tree, for each node X, the product of all other
// leaves modulo X. For the halves L and R of X, that of L is (that of X mod L)
// times (R mod L): no number is longer than X, where remainders modulo squares,
// as the method is usually written, are twice as long.
func (t *treeWalk) remainders(levels [][]*big.Int) []*big.Int {
	current := []*big.Int{big.NewInt(1)}
	for depth := len(levels) - 2; depth >= 0 && t.ctx.Err() == nil; depth-- {
		level := levels[depth]
		next := make([]*big.Int, len(level))
		above := current
		t.each(len(level), 1, func(i int) {
			sibling := i ^ 1
			if sibling == len(level) { // alone: the node above is the same
				next[i] = above[i/2]
				return
			}
			r := new(big.Int).Rem(above[i/2], level[i])
			r.Mul(r, new(big.Int).Rem(level[sibling], level[i]))
			next[i] = r.Rem(r, level[i])
		})
		levels[depth+1] = nil // no longer needed: the memory of one level is all that is kept
		current = next
	}
	return current
}

// each runs the function for every index on all processors, and ends early with the context.
func (t *treeWalk) each(count, weight int, do func(i int)) {
	var group sync.WaitGroup
	work := make(chan int)
	for range min(count, runtime.GOMAXPROCS(0)) {
		group.Go(func() {
			for i := range work {
				if t.ctx.Err() == nil {
					do(i)
					t.step(weight)
				}
			}
		})
	}
	for i := range count {
		work <- i
	}
	close(work)
	group.Wait()
}

func (t *treeWalk) step(n int) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	t.done += n
	if t.progress != nil {
		t.progress(t.done, t.total)
	}
}
