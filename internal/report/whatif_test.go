package report_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/judge"
	"nurvik/internal/api"
	"nurvik/internal/report"
)

func TestWhatIf(t *testing.T) {
	at := time.Date(2027, 6, 15, 0, 0, 0, 0, time.UTC)
	finding := func(code string, severity judge.Severity, message string) judge.Finding {
		return judge.Finding{Code: code, Severity: severity, Subject: "tides.tarnholm.example", Message: message}
	}
	view := api.WhatIfView{
		WhatIf: api.WhatIf{ID: 7, State: "finished", At: at, Policy: "strict", Selected: 1, Answer: &api.WhatIfAnswer{
			Endpoints: 1, Appear: 2, Go: 2, Worst: judge.Fault, Verdicts: api.Verdicts{Faulty: 1},
			Record: api.Verdicts{AtRisk: 1}}},
		Changes: []api.WhatIfEndpoint{{Endpoint: "tides.tarnholm.example:443", Record: judge.AtRisk,
			Verdict: judge.Faulty,
			Appear: []judge.Finding{finding("time.expired", judge.Fault, "It expired on 2027-05-25."),
				finding("proto.obsolete", judge.Fault, "TLS 1.0 is accepted.")},
			Go: []judge.Finding{finding("time.renewal-due", judge.Note, "30 days are left."),
				finding("proto.obsolete", judge.Risk, "TLS 1.0 is accepted.")}}},
	}
	var out bytes.Buffer
	require.NoError(t, report.WhatIf(view).Text(&out, report.Style{Width: 110}))
	golden(t, "testdata/what-if.txt", out.String())
	view.Changes, view.Answer = nil, &api.WhatIfAnswer{Endpoints: 1}
	out.Reset()
	require.NoError(t, report.WhatIf(view).Text(&out, report.Style{}))
	assert.Contains(t, out.String(), "0 findings would appear")
}
