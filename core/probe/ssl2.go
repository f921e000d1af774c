package probe

import (
	"context"
	"crypto/rand"
	"errors"
	"nurvik/core/facts"
	"nurvik/core/tlswire"
)

// askSSL2 asks for SSL 2.0, whose hello nothing else shares. Where everything older
// than TLS 1.2 is declined, nobody has it, and only full effort looks.
func askSSL2(ctx context.Context, v *visit) {
	if versions := v.accepted(); v.call.Effort != facts.Full && len(versions) > 0 &&
		versions[len(versions)-1] >= tlswire.TLS12 {
		return
	}
	conn, record, err := v.connect(ctx, facts.Because(facts.ForSSL2))
	if err != nil {
		return
	}
	defer conn.Close()
	var challenge [16]byte
	_, _ = rand.Read(challenge[:]) // crypto/rand never fails
	answer, err := tlswire.ExchangeOld(conn, challenge)
	v.close(conn, record, err)
	fact := facts.Version{Name: tlswire.SSL20.String(), Answer: facts.Declined}
	var alert *tlswire.AlertError
	switch {
	case err == nil:
		fact.Answer, fact.Suites = facts.Accepted, answer.Ciphers
	case errors.As(err, &alert):
		fact.Detail = reasonOf(err)
	case isTimeout(err):
		fact.Answer, fact.Detail = facts.NotShown, facts.Because(facts.NoAnswer)
	default:
		fact.Detail = facts.Because(facts.Closed)
	}
	v.answers[tlswire.SSL20] = fact
	if fact.Answer == facts.Declined {
		v.ended(ctx, err, func(why facts.Reason) {
			v.answers[tlswire.SSL20] = facts.Version{Name: fact.Name, Answer: facts.NotShown, Detail: why}
		})
	}
}
