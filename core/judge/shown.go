package judge

import (
	"slices"

	"nurvik/core/facts"
	"nurvik/core/policy"
	"nurvik/core/tlswire"
)

// Shown is what an address showed of TLS, beside what the policy wants of it,
// so that whoever draws it need not judge.
type Shown struct {
	Address  string         `json:"address"`
	Versions []ShownVersion `json:"versions" doc:"Newest first"`
	Suites   []ShownSuite   `json:"suites" doc:"Of the accepted versions, in the order met"`
	Settings []ShownSetting `json:"settings"`

	Timestamps []ShownTimestamp `json:"timestamps,omitempty" doc:"Signed certificate timestamps (SCT) of the leaf"`
}

// ShownVersion is one protocol version.
type ShownVersion struct {
	Name   string           `json:"name"`
	Answer facts.Acceptance `json:"answer" enum:"accepted,declined,garbled,not-shown"`
	Suite  string           `json:"suite,omitempty" doc:"The cipher suite that was chosen first"`
	Order  facts.Order      `json:"order,omitempty" enum:",server,client,partial" doc:"Whose order of cipher suites counts"`
	Cut    bool             `json:"cut,omitempty" doc:"The cipher suites were not asked to the end: there may be more"`
	Should string           `json:"should,omitempty" enum:",on,off,recommended" doc:"What the policy wants; empty where it does not mind"`
	Wrong  bool             `json:"wrong,omitempty"`
}

// ShownSuite is one cipher suite.
type ShownSuite struct {
	Name   string `json:"name"`
	Places []int  `json:"places" doc:"Its place in the order of each accepted version, from 1; 0 where it is not accepted"`
	Remark string `json:"remark,omitempty" enum:",weak,not-allowed,no-forward-secrecy"`
	Wrong  bool   `json:"wrong,omitempty" doc:"The policy does not want it"`
}

// ShownSetting is one setting by the name that facts give it.
type ShownSetting struct {
	Name   string       `json:"name"`
	Is     facts.Answer `json:"is" enum:"yes,no,not-shown"`
	Should facts.Answer `json:"should,omitempty" enum:",yes,no" doc:"What the policy wants; empty where both are in order"`
	Wrong  bool         `json:"wrong,omitempty"`
}

// Accepted are the versions that the places of suites belong to.
func (s Shown) Accepted() []ShownVersion {
	return slices.DeleteFunc(slices.Clone(s.Versions), func(v ShownVersion) bool { return v.Answer != facts.Accepted })
}

// shownOf puts what an address showed beside what the policy wants.
func shownOf(a *address) Shown {
	p := &a.context.Policy
	s := Shown{Address: a.seen.Place(), Versions: []ShownVersion{}, Suites: []ShownSuite{},
		Settings: []ShownSetting{}}
	for _, v := range slices.Backward(tlswire.Versions) {
		name := v.String()
		row := ShownVersion{Name: name, Answer: facts.NotShown, Should: shouldVersion(p.Protocols, name)}
		if i := slices.IndexFunc(a.seen.Versions, func(f facts.Version) bool { return f.Name == name }); i >= 0 {
			f := a.seen.Versions[i]
			row.Answer, row.Suite, row.Order, row.Cut = f.Answer, f.Suite, f.Order, f.Cut.Given()
		}
		accepted := row.Answer == facts.Accepted
		required := slices.Contains(p.Protocols.Required, name)
		row.Wrong = accepted && row.Should == "off" || required && !accepted && row.Answer != facts.NotShown
		s.Versions = append(s.Versions, row)
	}
	for _, suite := range suitesOf(a.seen) {
		if slices.ContainsFunc(s.Suites, func(x ShownSuite) bool { return x.Name == suite.name }) {
			continue
		}
		s.Suites = append(s.Suites, shownSuite(a, suite))
	}
	if a.bundle != nil {
		s.Timestamps = timestampsOf(a.bundle)
	}
	if a.seen.Settings == nil {
		return s
	}
	for _, rule := range settingRules {
		row := ShownSetting{Name: rule.name, Is: rule.of(a.seen.Settings), Should: rule.should}
		if rule.code != "" && p.Severity(rule.code) == policy.Off {
			row.Should = ""
		}
		row.Wrong = row.Should != "" && row.Is != row.Should && row.Is != facts.Unknown
		s.Settings = append(s.Settings, row)
	}
	return s
}

func shouldVersion(p policy.Protocol, version string) string {
	severity, _ := unwanted(p, version)
	switch {
	case slices.Contains(p.Required, version):
		return "on"
	case severity != None:
		return "off"
	case version == "TLS 1.3":
		return "recommended"
	case slices.Contains(wanted(p), version):
		return "on"
	}
	return ""
}

func shownSuite(a *address, suite acceptedSuite) ShownSuite {
	row := ShownSuite{Name: suite.name}
	for _, v := range slices.Backward(tlswire.Versions) {
		for _, f := range a.seen.Versions {
			if f.Name == v.String() && f.Answer == facts.Accepted {
				row.Places = append(row.Places, slices.Index(f.Suites, suite.name)+1)
			}
		}
	}
	code, _ := suite.weakness(a.context.Policy.Suites)
	byItself := suite.p.Status == tlswire.Weak || suite.p.Status == tlswire.Broken
	switch {
	case code != "" && byItself:
		row.Remark, row.Wrong = "weak", true
	case code != "":
		row.Remark, row.Wrong = "not-allowed", true
	case byItself:
		row.Remark = "weak"
	case !suite.p.ForwardSecrecy:
		row.Remark = "no-forward-secrecy"
	}
	return row
}
