package chain

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"time"

	"nurvik/core/facts"
	"nurvik/core/lifetime"
	"nurvik/core/pki"
)

// maxSigners is how many certificates are tried as the signer of an OCSP response; one or two come along.
const maxSigners = 12

// clockSkew is how far ahead the clock of a responder may be.
const clockSkew = 5 * time.Minute

// StatusAnswer judges a responder's answer for the certificate (RFC 6960, 3.2
// and 4.2.2.2). The nonce is the one that was sent, nil for none: an answer
// without one is taken, one with another is not (RFC 9654, 2.1). The times of
// the answer are facts here; whether it is stale is for the reader to say.
func (v *Verifier) StatusAnswer(der []byte, c, issuer *pki.Certificate, nonce []byte, at time.Time) facts.Revocation {
	out := facts.Revocation{Certificate: c.Fingerprint(), Source: facts.FromResponder, At: at}
	bad := func(code facts.Code, args ...any) facts.Revocation {
		for i, a := range args {
			args[i] = pki.Printable(fmt.Sprint(a))
		}
		out.Status, out.Detail = facts.RevocationBadAnswer, facts.Because(code, args...)
		return out
	}
	r, err := pki.ParseOCSPResponse(der)
	if err != nil {
		var malformed *pki.MalformedError
		if errors.As(err, &malformed) {
			return bad(facts.AnswerUndecodable, malformed.Reason)
		}
		return bad(facts.AnswerUndecodable, err)
	}
	switch r.Status {
	case pki.OCSPSuccessful:
	case pki.OCSPTryLater, pki.OCSPInternalError:
		out.Status, out.Detail = facts.RevocationUnreachable, facts.Because(facts.ResponderBusy, r.Status.Words())
		return out
	default:
		return bad(facts.ResponderRefuses, r.Status.Words())
	}
	i := newestAnswer(r.Answers, c, issuer)
	if i < 0 {
		return bad(facts.AnswerNotFor)
	}
	if len(r.UnknownCritical) > 0 {
		return bad(facts.AnswerCritical, r.UnknownCritical[0].Words())
	}
	if r.Refused != "" {
		return bad(facts.AnswerUndecodable, r.Refused)
	}
	signer, problem := v.responder(r, issuer, at)
	if problem.Given() {
		out.Status, out.Detail = facts.RevocationBadAnswer, problem
		return out
	}
	if signer != issuer {
		out.Signer = signer.Label()
	}
	if nonce != nil {
		out.Nonce = "same"
		switch {
		case r.Nonce == nil:
			out.Nonce = "absent"
		case !bytes.Equal(r.Nonce, nonce):
			out.Nonce = ""
			return bad(facts.AnswerNonce)
		}
	}
	a := r.Answers[i]
	out.ThisUpdate = &a.ThisUpdate
	if !a.Expires.IsZero() {
		out.NextUpdate = &a.Expires
	}
	if a.ThisUpdate.After(at.Add(clockSkew)) {
		return bad(facts.AnswerEarly, a.ThisUpdate.Format(time.RFC3339))
	}
	switch a.Status {
	case pki.StatusGood:
		out.Status = facts.RevocationGood
	case pki.StatusRevoked:
		out.Status, out.RevokedAt, out.Reason = facts.RevocationRevoked, &a.RevokedAt, a.Reason.Words()
	default:
		return bad(facts.AnswerUnknown)
	}
	return out
}

func refuses(c *pki.Certificate) bool {
	_, refused := c.Refused()
	return refused
}

// newestAnswer is the place of the answer for the certificate, -1 for none: of several the newest counts, and of two of
// one time the one that says revoked.
func newestAnswer(answers []pki.OCSPAnswer, c, issuer *pki.Certificate) int {
	best := -1
	for i, a := range answers {
		if !a.Concerns(c, issuer) {
			continue
		}
		if best < 0 || a.ThisUpdate.After(answers[best].ThisUpdate) ||
			a.ThisUpdate.Equal(answers[best].ThisUpdate) && a.Status == pki.StatusRevoked {
			best = i
		}
	}
	return best
}

// responder finds who signed the answer: the issuer itself, or someone whom it
// has appointed by a certificate for just that (RFC 6960, 4.2.2.2).
func (v *Verifier) responder(r *pki.OCSPResponse, issuer *pki.Certificate, at time.Time) (signer *pki.Certificate,
	problem facts.Reason) {
	candidates := []*pki.Certificate{issuer}
	for _, der := range r.Certificates {
		if c, err := pki.ParseCertificate(der); err == nil && len(candidates) < maxSigners {
			candidates = append(candidates, c)
		}
	}
	problem = facts.Because(facts.AnswerUnsigned)
	for _, c := range candidates {
		if !r.SignedAs(c) {
			continue
		}
		switch err := r.CheckSignedBy(c.PublicKey); {
		case errors.Is(err, pki.ErrUnverifiable):
			problem = facts.Because(facts.AnswerUncheckable, r.SignatureAlgorithm.Name)
			continue
		case err != nil:
			problem = facts.Because(facts.AnswerForged)
			continue
		}
		switch {
		case c.PublicKey.Match() == issuer.PublicKey.Match() && c.Subject.Key() == issuer.Subject.Key():
			return issuer, facts.Reason{}
		case c.Issuer.Key() != issuer.Subject.Key() || v.check(c, issuer.PublicKey) != nil:
			problem = facts.Because(facts.SignerUnappointed, c.Label())
		case !slices.Contains(c.ExtKeyUsage, pki.UsageOCSPSigning):
			problem = facts.Because(facts.SignerUsage, c.Label())
		case c.HasKeyUsage && c.KeyUsage&pki.UsageDigitalSignature == 0:
			problem = facts.Because(facts.SignerUsage, c.Label())
		case refuses(c):
			problem = facts.Because(facts.SignerCritical, c.Label())
		case !lifetime.ValidAt(c, r.ProducedAt), !lifetime.ValidAt(c, at):
			problem = facts.Because(facts.SignerExpired, c.Label())
		default:
			return c, facts.Reason{}
		}
	}
	return nil, problem
}
