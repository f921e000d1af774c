package judge

import (
	"fmt"

	"nurvik/core/facts"
	"nurvik/core/pki"
	"nurvik/core/rescue"
	"nurvik/core/words"
)

// reachCodes are the findings for outcomes that are answers, with their words.
var reachCodes = map[facts.Outcome][2]string{
	facts.NotTLS:          {"reach.not-tls", "Something other than TLS answers on the port: %s."},
	facts.TooSlow:         {"reach.too-slow", "The endpoint answers too slowly, and the visit was ended: %s."},
	facts.TooMuch:         {"reach.too-much", "The endpoint sent too much data, and the visit was ended: %s."},
	facts.DialogueRefused: {"reach.dialogue-refused", "STARTTLS failed: %s."},
	facts.Early:           {"reach.plaintext-after-upgrade", "The upgrade to TLS can be tampered with: %s."},
	facts.BadMessage:      {"reach.bad-message", "TLS answers, but %s."},

	facts.ExaminationFailed: {"reach.examination-failed", "The endpoint could not be examined: %s."},
}

// silentCodes say why no address answered.
var silentCodes = map[facts.Outcome]string{
	facts.Refused: "reach.refused", facts.Timeout: "reach.timeout", facts.Reset: "reach.reset",
	facts.Busy: "reach.busy",
}

// reachOutcome judges how the visits ended.
func reachOutcome(v *visited) []Finding {
	var out []Finding
	for i := range v.facts.Observations {
		o := &v.facts.Observations[i]
		address, detail, target := o.Place(), words.Of(o.Detail), v.facts.Endpoint
		var f Finding
		switch code, known := reachCodes[o.Outcome]; {
		case o.Outcome == facts.Answered, choseUnasked(o):
			continue
		case known:
			f = found(code[0], target, target, code[1], detail)
		case v.answered && !v.answeredFrom(o.Vantage): // that the vantages differ has a code of its own
			continue
		case v.answered:
			f = found("reach.address-refused", address, address, "%s does not answer, while other addresses do: %s.",
				address, detail)
		default:
			f = found(silentCodes[o.Outcome], target, target, "%s.", words.Capital(detail))
		}
		f.Addresses = []string{address}
		f.Evidence.Observations = []string{address + ": " + detail}
		out = append(out, f)
	}
	return out
}

// reachBadMessage tells of answers of an address that answered otherwise, and
// of certificates, that cannot be decoded.
func reachBadMessage(a *address) []Finding {
	var out []Finding
	notOffered := a.seen.Settings != nil && a.seen.Settings.NotOffered != "" // that has a code of its own
	for _, v := range a.seen.Versions {
		if v.Answer == facts.Garbled && !notOffered {
			out = append(out, found("reach.bad-message", v.Name, v.Name,
				"The answer to an offer of %s cannot be used: %s.", v.Name, words.Of(v.Detail)))
		}
	}
	for i, err := range a.unreadable {
		if err != nil {
			which := fmt.Sprintf("certificate %d", i+1)
			out = append(out, found("reach.bad-message", which, which,
				"Certificate %d of the chain cannot be decoded: %v.", i+1, err))
		}
	}
	return out
}

// reachCertificateUnseen tells of an address that takes TLS and whose certificate nobody saw: nothing about it is
// known.
func reachCertificateUnseen(a *address) []Finding {
	accepted := acceptedVersions(a)
	if len(accepted) == 0 || len(a.seen.Certificates) > 0 {
		return nil
	}
	why := words.Of(a.seen.Unseen)
	if why == "" {
		why = "none was shown"
	}
	return []Finding{found("reach.certificate-unseen", a.target, a.target,
		"%s is accepted, and no certificate could be read: %s.", joined(accepted), why)}
}

// reachHandshakeRefused tells of an address that refuses every ClientHello, and not for its versions.
func reachHandshakeRefused(a *address) []Finding {
	alert := refusal(a)
	if alert == "" {
		return nil
	}
	how, besides := "without SNI", ""
	if a.seen.ServerName != "" {
		how = "with " + a.seen.ServerName + " in SNI"
		for _, x := range a.seen.Others {
			switch {
			case x.To != "no-name":
			case x.Refused.Given():
				besides = fmt.Sprintf(" One without SNI is too: %s.", words.Of(x.Refused))
			default:
				besides = " One without SNI is answered."
			}
		}
	}
	f := found("reach.handshake-refused", a.target, a.target, "Every ClientHello %s is refused: %s.%s", how, alert,
		besides)
	return []Finding{f}
}

// reachTooSlow tells of visits that were ended before everything was asked.
func reachTooSlow(a *address) []Finding {
	if a.seen.Cut.Code != facts.TimeOver {
		return nil
	}
	return []Finding{found("reach.too-slow", a.target, a.target, "The visit was ended before everything was asked: %s.",
		words.Of(a.seen.Cut))}
}

// reachCutShort tells of an address that stopped answering before everything was asked. What it was not asked is not
// known, and nothing is concluded from it.
func reachCutShort(a *address) []Finding {
	why := a.seen.Cut
	for _, v := range a.seen.Versions {
		why = firstGiven(why, v.Cut)
		if c := v.Detail.Code; c == facts.StoppedAnswering || c == facts.EnoughAsked { // it was not asked at all
			why = firstGiven(why, v.Detail)
		}
	}
	if g := a.seen.Groups; g != nil {
		why = firstGiven(why, g.Cut)
	}
	if s := a.seen.Settings; s != nil {
		why = firstGiven(why, s.SignatureSchemesCut)
	}
	if !why.Given() || why.Code == facts.TimeOver { // which has a code of its own
		return nil
	}
	return []Finding{found("reach.cut-short", a.target, a.target,
		"Not everything could be asked, and there may be more than is shown: %s.", words.Of(why))}
}

func firstGiven(a, b facts.Reason) facts.Reason {
	if a.Given() {
		return a
	}
	return b
}

// reachReadingFailed tells of a file whose reading ended with a defect of ours.
func reachReadingFailed(m *material) []Finding {
	var out []Finding
	for _, d := range m.file.Defects {
		if d.Kind == facts.ReadingFailed {
			out = append(out, found("reach.examination-failed", m.file.Path, m.file.Path,
				"The file could not be examined: %s.", words.Of(d.Reason)))
		}
	}
	return out
}

// NotJudged is the judgement of a target at which judging itself failed.
func NotJudged(target, kind string, basis *Basis, defect *rescue.Defect) Judgement {
	j := Judgement{Target: target, Kind: kind, Basis: basis, Chains: []Chain{}, Certificates: []pki.Description{},
		Findings: []Finding{found("reach.examination-failed", target, target, "It could not be judged: %s.",
			words.Of(facts.Because(facts.OwnDefect, defect.Reference)))}}
	j.Verdict = verdictOf(j.Findings)
	return j
}

// notCompared is the finding where comparing files with each other failed.
func notCompared(path string, defect *rescue.Defect) Finding {
	return found("reach.examination-failed", "pairs", path, "The files could not be compared with each other: %s.",
		words.Of(facts.Because(facts.OwnDefect, defect.Reference)))
}
