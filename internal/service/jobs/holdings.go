package jobs

import (
	"context"
	"fmt"
	"slices"
	"time"

	"nurvik/core/chain"
	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/policy"
	"nurvik/core/trust"
	"nurvik/internal/service/store"
)

// maxShared is up to how many RSA keys of a holding the service looks for
// shared prime factors: so many take a second or two.
const maxShared = 2000

// TakeHolding stores the facts of a holding and judges them.
func (q *Queue) TakeHolding(ctx context.Context, h *store.Holding, files []facts.File) error {
	now := q.options.Now()
	h.SentAt = now
	b, err := q.bench(ctx, store.Audit{Policy: h.Policy}, certificatesOf(files))
	if err != nil {
		return err
	}
	judgements, err := b.judgeHolding(ctx, *h, files)
	if err != nil {
		return err
	}
	return q.store.Tx(ctx, func(tx *store.Tx) error {
		if err := tx.SaveHolding(h, files); err != nil {
			return err
		}
		return tx.SaveHoldingJudgement(h, judgements, now)
	})
}

// judgeHoldings judges every holding anew, because time passes and trust stores change.
func (q *Queue) judgeHoldings(ctx context.Context, tx *store.Tx, b *bench, now time.Time) error {
	holdings, err := q.store.Holdings(ctx)
	if err != nil {
		return err
	}
	for i := range holdings {
		h := &holdings[i]
		files, err := q.store.AllHoldingFiles(ctx, h.ID)
		if err != nil {
			return err
		}
		judgements, err := b.judgeHolding(ctx, *h, files)
		if err != nil {
			return err
		}
		if err := tx.SaveHoldingJudgement(h, judgements, now); err != nil {
			return fmt.Errorf("holding %s: %w", h.Name, err)
		}
	}
	return nil
}

// judgeHolding judges files as "nurvik audit" does on the machine itself.
func (b *bench) judgeHolding(ctx context.Context, h store.Holding, files []facts.File) ([]judge.Judgement, error) {
	context := b.context
	var err error
	if context.Policy, err = policy.Builtin(h.Policy); err != nil {
		return nil, err
	}
	trusted := h.Trust
	if len(h.Trust)+len(h.Audiences) == 0 {
		trusted = []string{trust.SystemName}
	}
	context.Trust, context.Audiences = b.named(trusted), b.named(h.Audiences)
	context.Known = chain.NewPool(append(slices.Clone(b.known), authoritiesOf(files)...))
	if judge.CountRSA(files) <= maxShared {
		if context.Shared, err = judge.SharedPrimes(ctx, files, nil, nil); err != nil {
			return nil, err
		}
	}
	judgements, _ := judge.Files(files, context)
	return judgements, nil
}

func certificatesOf(files []facts.File) []*pki.Certificate {
	var out []*pki.Certificate
	for _, f := range files {
		for _, item := range f.Certificates() {
			if c, err := pki.ParseCertificate(item.DER); err == nil {
				out = append(out, c)
			}
		}
	}
	return out
}

func authoritiesOf(files []facts.File) []*pki.Certificate {
	var out []*pki.Certificate
	for _, c := range certificatesOf(files) {
		if c.IsCA() {
			out = append(out, c)
		}
	}
	return out
}
