// Package words puts the codes of facts into English. Facts have none, so that
// nothing can decide on a text and other words need no other facts.
package words

import (
	"fmt"
	"strings"

	"nurvik/core/facts"
)

// Of says a reason in words, without a full stop; "" for none. A code that is
// not known, as of a later version, is shown as it is.
func Of(r facts.Reason) string {
	if !r.Given() {
		return ""
	}
	args, suffix := r.Args, ""
	for n := len(args); n > 0; n = len(args) {
		words, modifies := modifiers[facts.Code(args[n-1])]
		if !modifies {
			break
		}
		args, suffix = args[:n-1], words+suffix
	}
	format, known := reasons[r.Code]
	if !known {
		return strings.TrimSpace(string(r.Code) + " " + strings.Join(args, " "))
	}
	wanted := strings.Count(format, "%s") + strings.Count(format, "%q")
	values := make([]any, wanted) // what stands in a fact of another version may have more or fewer
	for i := range values {
		values[i] = ""
		if i < len(args) {
			values[i] = args[i]
		}
	}
	return fmt.Sprintf(format, values...) + suffix
}

// All says several reasons in one line.
func All(reasons []facts.Reason) string {
	out := make([]string, len(reasons))
	for i, r := range reasons {
		out[i] = Of(r)
	}
	return strings.Join(out, "; ")
}

// Capital begins a sentence with the text.
func Capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// modifiers stand behind the arguments of a connection's purpose.
var modifiers = map[facts.Code]string{facts.Again: ", once more", facts.WithSchemes: " and signature schemes",
	facts.WithoutName: ", without SNI", facts.WithShares: ", with a key share"}

var reasons = map[facts.Code]string{
	facts.NoAddress:        "%s has no address",
	facts.LookupFailed:     "%s",
	facts.OwnDefect:        "a defect of Nurvik itself ended the examination; its log has more under the reference %s",
	facts.ConnectRefused:   "the connection was refused: nothing listens on the port",
	facts.ConnectTimeout:   "the connection timed out",
	facts.ConnectFailed:    "no connection could be made: %s",
	facts.NoAnswer:         "connected, but there was no answer in time",
	facts.NoWholeAnswer:    "no complete answer in time",
	facts.Closed:           "the connection was closed without an answer",
	facts.Alert:            "alert %s",
	facts.OtherVersion:     "answered with %s",
	facts.NotTLSAnswer:     "the answer begins with %s",
	facts.ChoseUnasked:     "it chose %s, which was not offered",
	facts.Undecodable:      "its answer cannot be decoded: %s",
	facts.Endless:          "it sent too much data: %s",
	facts.SlowAnswer:       "%s bytes of its answer came in %s, and it was not complete",
	facts.SlowDialogue:     "%s bytes of the STARTTLS dialogue came in %s, and it was not over",
	facts.SilentDialogue:   "connected, but the STARTTLS dialogue did not go on in time",
	facts.ClosedDialogue:   "the connection was closed in the middle of STARTTLS",
	facts.EndlessDialogue:  "the STARTTLS dialogue does not end: %s lines came",
	facts.LongLine:         "a line of the STARTTLS dialogue is longer than %s bytes",
	facts.Unwilling:        "%s was answered with %q",
	facts.UpgradeMissing:   "%s is not offered",
	facts.WrongProtocol:    "the answer is not %s",
	facts.PlaintextAfterGo: "after it agreed to start TLS, the server sent %q in plaintext",
	facts.TimeOver:         "the time limit of the visit (%s) was reached after %s connections",
	facts.StoppedAnswering: "after %s connections the server no longer answered what it had answered before: %s",
	facts.EnoughAsked:      "%s connections were made, and a visit of this effort makes no more than %s",
	facts.LockNear: "%s connections since %s ended before the login, and at 100 the server locks this machine out, " +
		"so it is not visited until somebody resets its count",
	facts.SaidBusy:       "the server turned the connection away: %q",
	facts.NothingAnswers: "nothing answers",
	facts.NoHTTP:         "the answer is not HTTP",
	facts.NotTried:       "not tried",
	facts.GotAnswer:      "answered",
	facts.Failure:        "%s",
	facts.RecordsFailed:  "%s of %s: %s",

	facts.NoSuchDomain:   "%s lies in the domain %s, which does not exist",
	facts.ServerSilent:   "no name server answers for %s (the one that was asked says %s)",
	facts.EndlessAliases: "its CNAME records do not end, the last one seen is %s",

	facts.ForNewest:         "handshake with the newest version",
	facts.ForVersions:       "offer of %s and older",
	facts.ForSuites:         "further cipher suites of %s",
	facts.ForSuiteOrder:     "order of cipher suites of %s",
	facts.ForGroups:         "further groups",
	facts.ForGroupOrder:     "order of groups",
	facts.ForFallback:       "fallback signal",
	facts.ForLarge:          "a large ClientHello",
	facts.ForSession:        "a session of %s to resume",
	facts.ForResumption:     "resumption of the session of %s",
	facts.ForOtherKey:       "certificates with another kind of key",
	facts.ForNoName:         "certificates without SNI",
	facts.ForForeignName:    "certificates for an unknown name in SNI",
	facts.ForSSL2:           "offer of SSL 2.0",
	facts.ForCertificate:    "the certificate",
	facts.ForTolerance:      "whether unknown values are passed over",
	facts.ForGoodHello:      "whether the server still answers what it answered before",
	facts.ConfSyntax:        "%s",
	facts.ConfCycle:         "the file includes itself, by way of %s",
	facts.ConfNoInclude:     "the file %s that is included does not exist",
	facts.ConfUnreadable:    "%s cannot be read: %s",
	facts.ConfTooManyFiles:  "more than %s files are included",
	facts.ConfTooDeep:       "files are included more than %s levels deep",
	facts.ConfTooLarge:      "the configuration is larger than %s bytes",
	facts.ConfTooMuch:       "the configuration has more than %s directives",
	facts.ConfLongLine:      "the line is longer than %s bytes",
	facts.ConfUnknown:       "the directive %s is not one of %s that is known here",
	facts.ConfMisspelt:      "the directive %s is not known; %s may be meant",
	facts.ConfBadValue:      "for %s the value %q is not known",
	facts.ConfUnset:         "the variable %s is set nowhere in the files",
	facts.ConfEndless:       "the variable %s expands without end",
	facts.ConfNotComputed:   "what %s is set to depends on %s, which is not in the files",
	facts.ConfTwice:         "the directive %s is set twice in one block, first in line %s",
	facts.ConfMissingPart:   "there is %s without %s, which it needs",
	facts.ConfUnknownWord:   "%s has words that the TLS library does not know: %s",
	facts.ConfRefusedList:   "the TLS library refuses the value of %s: %s",
	facts.ConfNoCertificate: "%s holds no certificate",

	facts.InsistsOnGroup: "it insists on the group %s, in which no keys can be agreed here",
	facts.InsistsOnSuite: "it insists on the cipher suite %s, whose records cannot be read here",
	facts.SendsNone:      "it chose %s, with which no certificate is sent",
	facts.ForSchemes:     "further signature schemes",
	facts.ForPlainHTTP:   "plain HTTP",

	facts.FileOver64MiB:     "it is larger than 64 MiB and is not read",
	facts.EntryTooLarge:     "an entry expands to more than 64 MiB and is not read",
	facts.EntryTooDense:     "an entry expands to more than %s times its size and is not read",
	facts.ArchiveTooLarge:   "the archive expands to more than 256 MiB; the rest is not read",
	facts.TooManyEntries:    "the archive has more than %s entries; the rest is not read",
	facts.NestedTooDeep:     "it is an archive inside %s others, and no deeper one is opened",
	facts.ArchiveDamaged:    "the archive is damaged: %s",
	facts.CutOff:            "it is cut off: %s of %s bytes are there",
	facts.InFile:            "in %s, %s",
	facts.Unreadable:        "it cannot be read: %s",
	facts.BlockUnreadable:   "the block cannot be read as %s: %s",
	facts.BlockDamaged:      "the block cannot be read: %s",
	facts.BlockCutOff:       "the block has no END line: it is cut off",
	facts.LoneBegin:         "there is a BEGIN line, but no contents and no END line",
	facts.SetDamaged:        "the PKCS#7 file cannot be read to its end: %s",
	facts.SetMember:         "certificate %s of the PKCS#7 file cannot be read: %s",
	facts.StoreDamaged:      "a part of the %s keystore cannot be read: %s",
	facts.StoreCertificate:  "the certificate %q in the keystore cannot be read: %s",
	facts.StoreList:         "the CRL %q in the keystore cannot be read: %s",
	facts.StoreKey:          "the private key %q in the keystore cannot be read",
	facts.KeyInCertificates: "a private key is in a file that is, by its name, for certificates",
	facts.BlockRepeated:     "the same block is in this file already",
	facts.BlockTwiceEncoded: "the block contains text: it was base64-encoded twice",
	facts.TextTwiceEncoded:  "the text was base64-encoded twice",
	facts.LabelUnknown:      "the label %q is not a known one; the block contains %s",
	facts.LabelOther:        "the label says %q and the block contains %s",
	facts.LabelsDiffer:      "the block begins as %q and ends as %q",
	facts.LabelHyphens:      "the BEGIN or END line does not have five hyphens on each side",
	facts.LabelSpaces:       "there are spaces between the label and the hyphens",
	facts.LabelCase:         "the BEGIN and END lines are not written in capitals",
	facts.BeginMissing:      "the BEGIN line of the block is missing",
	facts.QuotedLines:       "the block was quoted in a mail: \">\" stands in front of its lines",
	facts.QuotedPrintable:   "the block has the quoted-printable encoding of a mail, such as \"=3D\" for \"=\"",
	facts.EscapedHyphens: "\"- \" stands in front of the BEGIN and END lines, as in a mail with an OpenPGP " +
		"signature",
	facts.TextOutside:    "there is text outside the blocks",
	facts.WindowsLines:   "the file has Windows line ends (CRLF)",
	facts.OldMacLines:    "the file has old-Mac line ends (CR)",
	facts.InUTF16:        "the file is UTF-16; PEM is read as ASCII",
	facts.BeginsWithMark: "the file begins with a byte-order mark",
	facts.Dashes: "there are typographic dashes, as mail programs and word processors write them, " +
		"where hyphens must be",
	facts.HTMLEntities: "there are HTML entities in the block: it was copied from the source of a web page",
	facts.BeginRunsOn: "the block begins on the line on which the previous one ends; the line end between " +
		"them is missing",
	facts.EndRunsOn:         "the END line does not begin on a line of its own",
	facts.SpaceInside:       "there are spaces, indentation or empty lines inside or around the block",
	facts.LineOfOtherLength: "a line has %s characters; every line but the last should have 64",
	facts.EncryptedEntry:    "it is encrypted, and compressed in a way that is not read here; unpack it first",
	facts.NoEntries:         "it has no entries",
	facts.NoCertificates:    "it contains no certificate",
	facts.KeyPartsDisagree:  "%s",
	facts.ProtectionUnknown: "%s",

	facts.AnswerUndecodable: "the OCSP response cannot be decoded: %s",
	facts.AnswerNotFor:      "the OCSP response is about other certificates",
	facts.AnswerCritical:    "the OCSP response has the critical extension %s, which is not known",
	facts.AnswerNonce:       "the OCSP response has another nonce than the one that was sent",
	facts.AnswerEarly:       "the OCSP response is dated %s, which is in the future",
	facts.AnswerUnknown:     "it says that the certificate is unknown",
	facts.AnswerUnsigned:    "no certificate that is known here signed the OCSP response",
	facts.AnswerUncheckable: "the signature of the OCSP response cannot be checked here: it uses %s",
	facts.AnswerForged:      "the signature of the OCSP response is wrong",
	facts.SignerUnappointed: "%s signed the OCSP response and was not authorised by the issuer",
	facts.SignerUsage:       "%s signed the OCSP response and its certificate is not for OCSP signing",
	facts.SignerExpired:     "the certificate of %s, which signed the OCSP response, was not or is not valid",
	facts.SignerCritical: "the certificate of %s, which signed the OCSP response, has an extension that cannot be " +
		"processed",
	facts.ResponderBusy:    "the OCSP responder says: %s",
	facts.ResponderRefuses: "the OCSP responder refuses: %s",
	facts.ListsUnusable:    "%s",
	facts.ListsElsewhere:   "the CRLs do not cover the certificate",
	facts.FetchFailed:      "%s",
	facts.InquiryTimeOver:  "the time for asking the issuers about this endpoint was over",
	facts.NotItsIssuer:     "what is there did not issue %s",
}
