package api

import (
	"time"

	"nurvik/core/judge"
)

// WhatIfStart asks what would be otherwise: as of another time, by another
// policy, without a root. What was observed last is judged again, nothing is
// visited, and nothing of the record changes.
type WhatIfStart struct {
	EndpointIDs []int64    `json:"endpoint_ids,omitempty" maxItems:"20000" doc:"None means the whole estate"`
	At          *time.Time `json:"at,omitempty" doc:"Judge as of this time; without one, now"`
	Policy      string     `json:"policy,omitempty" maxLength:"100" doc:"Judge every endpoint by this policy of the service"`
	PolicyText  string     `json:"policy_text,omitempty" maxLength:"200000" doc:"Judge by this policy instead, which is not kept"`
	Distrust    []string   `json:"distrust,omitempty" maxItems:"100" doc:"SHA-256 of certificates or keys to treat as untrusted"`
}

// WhatIf is such a question with its answer.
type WhatIf struct {
	ID         int64         `json:"id"`
	State      string        `json:"state" enum:"judging,finished,failed"`
	At         time.Time     `json:"at" doc:"Judged as of"`
	Policy     string        `json:"policy,omitempty" doc:"Empty for the policies that are assigned"`
	Distrust   []string      `json:"distrust"`
	Selected   int           `json:"selected,omitempty" doc:"How many endpoints were asked about; none means all"`
	CreatedAt  time.Time     `json:"created_at"`
	FinishedAt *time.Time    `json:"finished_at,omitempty"`
	Failure    string        `json:"failure,omitempty"`
	Answer     *WhatIfAnswer `json:"answer,omitempty" doc:"Absent until it is finished"`
}

// WhatIfAnswer sums up the difference to the record.
type WhatIfAnswer struct {
	Endpoints int            `json:"endpoints" doc:"Judged again"`
	Unseen    int            `json:"unseen,omitempty" doc:"Asked about and never visited: nothing is known of them"`
	Verdicts  Verdicts       `json:"verdicts" doc:"As they would be"`
	Record    Verdicts       `json:"record" doc:"As they are"`
	Appear    int            `json:"appear" doc:"Findings that would appear"`
	Go        int            `json:"go" doc:"Findings that would go"`
	Worst     judge.Severity `json:"worst,omitempty" enum:",fault,risk,note,none" doc:"Of the findings that would appear and count"`
}

// WhatIfEndpoint is one endpoint whose findings would change.
type WhatIfEndpoint struct {
	EndpointID int64           `json:"endpoint_id"`
	Endpoint   string          `json:"endpoint"`
	Record     judge.Verdict   `json:"record" enum:"sound,at-risk,faulty,unreachable"`
	Verdict    judge.Verdict   `json:"verdict" enum:"sound,at-risk,faulty,unreachable" doc:"As it would be"`
	Basis      judge.Basis     `json:"basis" doc:"What it was judged with"`
	Appear     []judge.Finding `json:"appear" doc:"Findings that would appear; one that would weigh or count otherwise both goes and appears"`
	Go         []judge.Finding `json:"go" doc:"Findings that would go"`
}

// WhatIfView is a what-if with every endpoint that would change.
type WhatIfView struct {
	WhatIf
	Changes []WhatIfEndpoint `json:"changes" doc:"By endpoint; those that stay as they are, are left out"`
}

// WhatIfPage is one page of what-ifs, the newest first.
type WhatIfPage struct {
	Items []WhatIf `json:"items"`
	Next  string   `json:"next,omitempty" doc:"Cursor of the next page; absent on the last"`
}
