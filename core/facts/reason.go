package facts

import "fmt"

// Reason says why something is as it is: a code with its arguments, and no
// words. Package words makes those for whoever shows it; whoever decides,
// decides on the code.
type Reason struct {
	Code Code     `json:"code" doc:"Why, in one word"`
	Args []string `json:"args,omitempty" maxItems:"8" doc:"Names, numbers and diagnostics that the code stands with"`
}

// Because makes a reason. Arguments become text as fmt.Sprint writes them.
func Because(code Code, args ...any) Reason {
	r := Reason{Code: code}
	for _, a := range args {
		r.Args = append(r.Args, fmt.Sprint(a))
	}
	return r
}

// Given reports whether there is a reason at all.
func (r Reason) Given() bool { return r.Code != "" }

// Code is what a reason is about. The arguments stand behind each.
type Code string

// Why a name led nowhere, or an address gave no answer.
const (
	NoAddress        Code = "no-address"         // name
	LookupFailed     Code = "lookup-failed"      // diagnostic
	ConnectRefused   Code = "connect-refused"    //
	ConnectTimeout   Code = "connect-timeout"    //
	ConnectFailed    Code = "connect-failed"     // diagnostic
	NoAnswer         Code = "no-answer"          // connected, and silent
	NoWholeAnswer    Code = "no-whole-answer"    // an answer had begun
	Closed           Code = "closed"             // without an answer
	Alert            Code = "alert"              // name
	OtherVersion     Code = "other-version"      // the version that was chosen instead
	NotTLSAnswer     Code = "not-tls"            // how the answer begins
	ChoseUnasked     Code = "chose-unasked"      // what was chosen
	Undecodable      Code = "undecodable"        // diagnostic
	Endless          Code = "endless"            // diagnostic
	SlowAnswer       Code = "slow-answer"        // bytes, time
	SlowDialogue     Code = "slow-dialogue"      // bytes, time
	SilentDialogue   Code = "silent-dialogue"    //
	ClosedDialogue   Code = "closed-dialogue"    //
	EndlessDialogue  Code = "endless-dialogue"   // lines
	LongLine         Code = "long-line"          // bytes
	Unwilling        Code = "unwilling"          // what was asked, the answer
	UpgradeMissing   Code = "upgrade-missing"    // the upgrade that is not offered
	WrongProtocol    Code = "wrong-protocol"     // the protocol that it should be
	PlaintextAfterGo Code = "plaintext-after-go" // the plaintext
	TimeOver         Code = "time-over"          // limit, connections
	StoppedAnswering Code = "stopped-answering"  // connections, how the last one ended
	EnoughAsked      Code = "enough-asked"       // connections, the limit
	LockNear         Code = "lock-near"          // connections, since when
	SaidBusy         Code = "said-busy"          // what the server said
	NothingAnswers   Code = "nothing-answers"    //
	NoHTTP           Code = "no-http"            //
	InsistsOnGroup   Code = "insists-on-group"   // group
	InsistsOnSuite   Code = "insists-on-suite"   // suite
	SendsNone        Code = "sends-none"         // suite
	NotTried         Code = "not-tried"          // a limit of connections was reached
	GotAnswer        Code = "answered"
	Failure          Code = "failure"        // diagnostic, of whatever else
	RecordsFailed    Code = "records-failed" // kind of record, name, diagnostic
	OwnDefect        Code = "own-defect"     // reference to the log
)

// Why nothing can be put where a challenge name leads.
const (
	NoSuchDomain   Code = "no-such-domain"  // where it leads, the domain that does not exist
	ServerSilent   Code = "server-silent"   // where it leads, what the name server that was asked answered
	EndlessAliases Code = "endless-aliases" // the last name
)

// What a connection was for.
const (
	ForNewest      Code = "newest-version"         //
	ForVersions    Code = "versions"               // newest of those offered
	ForSuites      Code = "suites"                 // version
	ForSuiteOrder  Code = "suite-order"            // version
	ForGroups      Code = "groups"                 //
	ForGroupOrder  Code = "group-order"            //
	ForFallback    Code = "fallback-signal"        //
	ForLarge       Code = "large-hello"            //
	ForSession     Code = "session"                // version
	ForResumption  Code = "resumption"             // version
	ForOtherKey    Code = "chain-for-other-key"    //
	ForNoName      Code = "chain-for-no-name"      //
	ForForeignName Code = "chain-for-foreign-name" //
	ForSSL2        Code = "ssl-2"                  //
	ForCertificate Code = "certificate"            //
	ForTolerance   Code = "tolerance"              //
	ForGoodHello   Code = "good-hello-again"       // whether what was accepted before still is
	ForSchemes     Code = "signature-schemes"      //
	ForPlainHTTP   Code = "plain-http"             //
	Again          Code = "again"                  // as the last argument of a purpose: asked once more
	WithoutName    Code = "without-name"           // as the last argument: and without SNI
	WithShares     Code = "with-key-shares"        // as the last argument: a key share is sent
	WithSchemes    Code = "and-signature-schemes"  // as the last argument: it asks for these too
)

// What is wrong with the form of a file, or inside of it.
const (
	FileOver64MiB     Code = "file-too-large"        //
	EntryTooLarge     Code = "entry-too-large"       //
	EntryTooDense     Code = "entry-too-dense"       // how many times it expands at most
	ArchiveTooLarge   Code = "archive-too-large"     //
	TooManyEntries    Code = "too-many-entries"      // limit
	NestedTooDeep     Code = "nested-too-deep"       // limit
	ArchiveDamaged    Code = "archive-damaged"       // diagnostic
	CutOff            Code = "cut-off"               // bytes there, bytes that it should have
	Unreadable        Code = "unreadable"            // diagnostic
	InFile            Code = "in-file"               // path, diagnostic
	BlockUnreadable   Code = "block-unreadable"      // what it should be, diagnostic
	BlockDamaged      Code = "block-damaged"         // diagnostic
	BlockCutOff       Code = "block-cut-off"         //
	LoneBegin         Code = "lone-begin"            //
	SetDamaged        Code = "set-damaged"           // diagnostic
	SetMember         Code = "set-member-unreadable" // number, diagnostic
	StoreDamaged      Code = "keystore-damaged"      // kind, diagnostic
	StoreCertificate  Code = "keystore-certificate"  // alias, diagnostic
	StoreList         Code = "keystore-list"         // alias, diagnostic
	StoreKey          Code = "keystore-key"          // alias
	KeyInCertificates Code = "key-in-certificates"   //
	BlockRepeated     Code = "block-repeated"        //
	BlockTwiceEncoded Code = "block-twice-encoded"   //
	TextTwiceEncoded  Code = "text-twice-encoded"    //
	LabelUnknown      Code = "label-unknown"         // label, what the block holds
	LabelOther        Code = "label-other"           // label, what the block holds
	LabelsDiffer      Code = "labels-differ"         // label of BEGIN, label of END
	LabelHyphens      Code = "label-hyphens"         //
	LabelSpaces       Code = "label-spaces"          //
	LabelCase         Code = "label-case"            //
	BeginMissing      Code = "begin-missing"         //
	QuotedLines       Code = "quoted-lines"          //
	QuotedPrintable   Code = "quoted-printable"      //
	EscapedHyphens    Code = "escaped-hyphens"       //
	TextOutside       Code = "text-outside"          //
	WindowsLines      Code = "line-ends-windows"     //
	OldMacLines       Code = "line-ends-old-mac"     //
	InUTF16           Code = "in-utf-16"             //
	BeginsWithMark    Code = "begins-with-mark"      //
	Dashes            Code = "dashes"                //
	HTMLEntities      Code = "html-entities"         //
	BeginRunsOn       Code = "begin-runs-on"         //
	EndRunsOn         Code = "end-runs-on"           //
	SpaceInside       Code = "space-inside"          //
	LineOfOtherLength Code = "line-of-other-length"  // characters
	EncryptedEntry    Code = "encrypted-entry"       //
	NoEntries         Code = "no-entries"            //
	NoCertificates    Code = "no-certificates"       //
	KeyPartsDisagree  Code = "key-parts-disagree"    // diagnostic
	ProtectionUnknown Code = "protection-unknown"    // diagnostic
)

// What is wrong with the configuration of a server, or was not understood.
const (
	ConfSyntax        Code = "conf-syntax"           // diagnostic
	ConfCycle         Code = "conf-cycle"            // the file that includes itself
	ConfNoInclude     Code = "conf-no-include"       // path
	ConfUnreadable    Code = "conf-unreadable"       // path, diagnostic
	ConfTooManyFiles  Code = "conf-too-many-files"   // limit
	ConfTooDeep       Code = "conf-too-deep"         // limit
	ConfTooLarge      Code = "conf-too-large"        // limit in bytes
	ConfTooMuch       Code = "conf-too-much"         // limit of directives
	ConfLongLine      Code = "conf-long-line"        // limit in bytes
	ConfUnknown       Code = "conf-unknown"          // directive, server
	ConfMisspelt      Code = "conf-misspelt"         // directive, the one that may be meant
	ConfBadValue      Code = "conf-bad-value"        // directive, value
	ConfUnset         Code = "conf-variable-unset"   // variable
	ConfEndless       Code = "conf-variable-endless" // variable
	ConfNotComputed   Code = "conf-not-computed"     // directive, what it depends on
	ConfTwice         Code = "conf-twice"            // directive, the line of the first
	ConfMissingPart   Code = "conf-missing-part"     // what is configured, what it needs
	ConfUnknownWord   Code = "conf-unknown-word"     // directive, the words that its library does not know
	ConfRefusedList   Code = "conf-refused-list"     // directive, diagnostic
	ConfNoCertificate Code = "conf-no-certificate"   // path
)

// Why an answer about revocation is none, or why a certificate was not fetched.
const (
	AnswerUndecodable Code = "answer-undecodable" // diagnostic
	AnswerNotFor      Code = "answer-not-for"     // it is about other certificates
	AnswerCritical    Code = "answer-critical"    // extension
	AnswerNonce       Code = "answer-nonce"       //
	AnswerEarly       Code = "answer-early"       // its date
	AnswerUnknown     Code = "answer-unknown"     //
	AnswerUnsigned    Code = "answer-unsigned"    // nobody known has signed it
	AnswerUncheckable Code = "answer-uncheckable" // algorithm
	AnswerForged      Code = "answer-forged"      //
	SignerUnappointed Code = "signer-unappointed" // signer
	SignerUsage       Code = "signer-usage"       // signer
	SignerExpired     Code = "signer-expired"     // signer
	ResponderBusy     Code = "responder-busy"     // status
	ResponderRefuses  Code = "responder-refuses"  // status
	SignerCritical    Code = "signer-critical"    // signer
	ListsUnusable     Code = "lists-unusable"     // diagnostics
	ListsElsewhere    Code = "lists-elsewhere"    // they do not cover the certificate
	FetchFailed       Code = "fetch-failed"       // diagnostics
	InquiryTimeOver   Code = "inquiry-time-over"  //
	NotItsIssuer      Code = "not-its-issuer"     // the certificate whose issuer was looked for
)
