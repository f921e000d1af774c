package judge

// check is one row of the table: the codes that it may find, and one function
// for its scope. Checks know nothing of each other, so their order is for
// readers only: findings are sorted afterwards.
type check struct {
	codes []string
	// One of these, which is the scope of the check.
	endpoint func(*visited) []Finding    // what an endpoint and its addresses show
	chain    func(*bundle) []Finding     // one chain, as served or in a file
	file     func(*material) []Finding   // one file by itself
	files    func(*pairs) []located      // a set of files together
	config   func(*configured) []Finding // one server's configuration, with the files that it names
	place    func(*placed) []Finding     // a place of a configuration that was visited
}

// checks is the table of all rules. The rule of a code is in the file of its area.
var checks = []check{
	{codes: []string{"reach.refused", "reach.timeout", "reach.reset", "reach.busy", "reach.address-refused",
		"reach.not-tls",
		"reach.bad-message", "reach.too-slow",
		"reach.too-much", "reach.dialogue-refused", "reach.plaintext-after-upgrade", "reach.examination-failed"},
		endpoint: reachOutcome},
	{codes: []string{"reach.bad-message"}, endpoint: each(reachBadMessage)},
	{codes: []string{"reach.too-slow"}, endpoint: each(reachTooSlow)},
	{codes: []string{"reach.cut-short"}, endpoint: each(reachCutShort)},
	{codes: []string{"reach.certificate-unseen"}, endpoint: each(reachCertificateUnseen)},
	{codes: []string{"reach.handshake-refused"}, endpoint: each(reachHandshakeRefused)},
	{codes: []string{"dns.unresolved"}, endpoint: dnsUnresolved},

	{codes: []string{"proto.obsolete"}, endpoint: each(protoObsolete)},
	{codes: []string{"proto.none-current", "proto.without-tls12", "proto.without-tls13"}, endpoint: each(protoCurrent)},
	{codes: []string{"proto.answer-not-offered", "proto.compression", "proto.no-renegotiation-info",
		"proto.no-extended-master-secret",
		"proto.heartbeat", "proto.intolerant"}, endpoint: each(protoSettings)},
	{codes: []string{"proto.answer-not-offered"}, endpoint: protoNothingElse},
	{codes: []string{"suite.null", "suite.anonymous", "suite.export", "suite.weak-cipher"}, endpoint: each(suiteWeak)},
	{codes: []string{"suite.no-forward-secrecy"}, endpoint: each(suiteForwardSecrecy)},
	{codes: []string{"suite.client-decides", "suite.weak-first"}, endpoint: each(suiteOrder)},
	{codes: []string{"group.weak-parameters"}, endpoint: each(groupWeak)},
	{codes: []string{"group.no-hybrid"}, endpoint: each(groupNoHybrid)},
	{codes: []string{"http.no-strict-transport", "http.no-redirect"}, endpoint: each(httpAnswers)},
	{codes: []string{"dns.points-elsewhere"}, endpoint: dnsPointsElsewhere},
	{codes: []string{"dns.challenge-stale", "dns.challenge-dangling"}, endpoint: dnsChallenge},
	{codes: []string{"http.challenge-unreachable", "http.challenge-redirected"}, endpoint: httpChallenge},
	{codes: []string{"deploy.default-name-differs"}, endpoint: each(deployDefaultName)},
	{codes: []string{"deploy.addresses-differ"}, endpoint: deployAddressesDiffer},
	{codes: []string{"deploy.vantages-differ"}, endpoint: deployVantagesDiffer},

	{codes: []string{"chain.incomplete"}, chain: chainIncomplete},
	{codes: []string{"chain.bad-signature", "chain.not-an-authority", "chain.path-length", "chain.unknown-critical"},
		chain: chainPathFailures},
	{codes: []string{"chain.gave-up"}, chain: chainGaveUp},
	{codes: []string{"chain.wrong-sibling"}, chain: chainWrongSibling},
	{codes: []string{"chain.wrong-order"}, chain: chainWrongOrder},
	{codes: []string{"chain.root-sent"}, chain: chainRootSent},
	{codes: []string{"chain.duplicate"}, chain: chainDuplicate},
	{codes: []string{"chain.unrelated"}, chain: chainUnrelated},
	{codes: []string{"chain.expired-alternate"}, chain: chainExpiredAlternate},
	{codes: []string{"chain.expires-before-leaf"}, chain: chainExpiresBeforeLeaf},
	{codes: []string{"chain.too-long"}, chain: chainTooLong},
	{codes: []string{"trust.self-signed", "trust.rehearsal-issuer", "trust.unknown-anchor"}, chain: trustNoAnchor},
	{codes: []string{"trust.name-constraint", "trust.usage", "trust.policy"}, chain: trustPathFailures},
	{codes: []string{"trust.timestamps-missing"}, chain: trustTimestamps},
	{codes: []string{"trust.audience-split"}, chain: trustAudienceSplit},
	{codes: []string{"trust.anchor-expired"}, chain: trustAnchorExpired},
	{codes: []string{"name.uncovered"}, chain: nameUncovered},
	{codes: []string{"name.wildcard-too-broad", "name.malformed", "name.address-as-name", "name.internal",
		"name.underscore", "name.redundant"}, chain: nameEntries},
	{codes: []string{"name.common-name-apart"}, chain: nameCommonName},
	{codes: []string{"name.unneeded"}, chain: nameUnneeded},
	{codes: []string{"time.expired", "time.not-yet-valid", "time.expires-soon", "time.renewal-due"}, chain: timeState},
	{codes: []string{"time.too-long"}, chain: timeTooLong},
	{codes: []string{"algo.unverifiable"}, chain: algoUnverifiable},
	{codes: []string{"algo.weak-signature"}, chain: algoWeakSignature},
	{codes: []string{"revoke.revoked", "revoke.bad-answer", "revoke.unreachable", "revoke.stale",
		"revoke.none-published"}, chain: revokeState},
	{codes: []string{"revoke.staple-missing"}, chain: revokeStapleMissing},
	{codes: []string{"key.too-short", "key.weak", "key.unusual", "key.shared-prime"}, chain: keysOfPath},
	{codes: []string{"file.malformed-certificate"}, chain: fileMalformedServed},
	{codes: []string{"pair.possession-failed"}, chain: pairPossessionFailed},
	{codes: []string{"dns.tlsa-mismatch"}, chain: dnsTLSAMismatch},
	{codes: []string{"dns.caa-forbids"}, chain: dnsCAAForbids},

	{codes: []string{"file.byte-order-mark", "file.utf-16", "file.run-together", "file.white-space", "file.line-length",
		"file.wrong-label",
		"file.typographic-dashes", "file.entities", "file.double-base64", "file.repeated",
		"file.key-among-certificates", "file.mail-text", "file.too-large"}, file: fileForm},
	{codes: []string{"file.never-used"}, file: fileNeverUsed},
	{codes: []string{"reach.examination-failed"}, file: reachReadingFailed},
	{codes: []string{"file.damaged"}, file: fileDamaged},
	{codes: []string{"file.locked", "file.too-large"}, file: fileLocked},
	{codes: []string{"file.malformed-certificate"}, file: fileMalformed},
	{codes: []string{"key.too-short", "key.weak", "key.unusual", "key.shared-prime"}, file: keysOfFile},
	{codes: []string{"request.bad-signature", "request.asks-authority", "request.no-names", "request.country",
		"request.field-length", "request.characters", "request.weak-hash", "request.base-name-missing",
		"request.unusual-usage", "request.empty-field", "request.challenge-password"}, file: requestFit},
	{codes: []string{"key.inconsistent"}, file: keyInconsistent},
	{codes: []string{"key.published"}, file: keyPublished},
	{codes: []string{"key.exposed"}, file: keyExposed},

	{codes: []string{"config.broken", "config.not-understood"}, config: configTroubles},
	{codes: []string{"config.file-missing", "config.file-unreadable"}, config: configFiles},
	{codes: []string{"config.key-mismatch"}, config: configKeyMismatch},
	{codes: []string{"config.chain-wrong", "config.leaf-only"}, config: configChain},
	{codes: []string{"config.unknown-name"}, config: configNames},
	{codes: []string{"config.old-set"}, config: configOldSet},
	{codes: []string{"config.two-places"}, config: configTwoPlaces},
	{codes: []string{"config.obsolete-directive", "config.contradiction"}, config: configDirectives},
	{codes: []string{"config.no-redirect"}, config: configRedirect},
	{codes: []string{"config.obsolete-protocol", "config.in-name-only", "config.broken", "config.not-understood"},
		config: configTold},

	{codes: []string{"deploy.not-reloaded", "deploy.other-source", "deploy.key-differs"}, place: deployServed},
	{codes: []string{"deploy.revoked-still-served"}, place: deployRevoked},
	{codes: []string{"deploy.replaced-elsewhere"}}, // of all endpoints together: ReplacedElsewhere

	{codes: []string{"pair.key-mismatch"}, files: pairKeyMismatch},
	{codes: []string{"pair.stores-disagree"}, files: pairStoresDisagree},
	{codes: []string{"pair.request-waiting"}, files: pairRequestWaiting},
	{codes: []string{"pair.duplicate"}, files: pairDuplicate},
	{codes: []string{"pair.no-certificate"}, files: pairNoCertificate},
	{codes: []string{"pair.no-key"}, files: pairNoKey},
	{codes: []string{"pair.old-set"}, files: pairOldSet},
	{codes: []string{"pair.key-reused"}, files: pairKeyReused},
}

// ofChain, ofFile and so on run the checks of one scope.
func ofEndpoint(v *visited) (out []Finding) {
	for _, c := range checks {
		if c.endpoint != nil {
			out = append(out, c.endpoint(v)...)
		}
	}
	return out
}

func ofChain(b *bundle) (out []Finding) {
	for _, c := range checks {
		if c.chain != nil {
			out = append(out, c.chain(b)...)
		}
	}
	return out
}

func ofFile(m *material) (out []Finding) {
	for _, c := range checks {
		if c.file != nil {
			out = append(out, c.file(m)...)
		}
	}
	return out
}

func ofConfiguration(c *configured) (out []Finding) {
	for _, row := range checks {
		if row.config != nil {
			out = append(out, row.config(c)...)
		}
	}
	return out
}

func ofPlace(p *placed) (out []Finding) {
	for _, row := range checks {
		if row.place != nil {
			out = append(out, row.place(p)...)
		}
	}
	return out
}

func ofFiles(p *pairs, found func([]located)) {
	for _, c := range checks {
		if c.files != nil {
			found(c.files(p))
		}
	}
}
