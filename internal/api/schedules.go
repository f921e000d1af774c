package api

import "time"

// ScheduleSettings say when audits begin by themselves, and of what.
type ScheduleSettings struct {
	Every  int      `json:"every,omitempty" minimum:"1" maximum:"720" doc:"Hours from one audit to the next; or say at"`
	At     []string `json:"at,omitempty" maxItems:"24" doc:"Times of the day in the time zone, such as 02:30"`
	Days   []string `json:"days,omitempty" maxItems:"7" enum:"mon,tue,wed,thu,fri,sat,sun" doc:"None means every day"`
	Zone   string   `json:"zone,omitempty" maxLength:"100" doc:"Time zone of the IANA database; UTC where it is absent"`
	Quiet  string   `json:"quiet,omitempty" maxLength:"20" doc:"No visit begins from then until then: 07:00-09:30"`
	Spread int      `json:"spread,omitempty" minimum:"0" maximum:"1440" doc:"Minutes over which the visits are spread"`
	Label  string   `json:"label,omitempty" maxLength:"300" doc:"KEY=VALUE of the endpoints; the whole estate where it is absent"`
	Paused bool     `json:"paused,omitempty" doc:"No audit begins"`
}

// ScheduleStart makes a schedule.
type ScheduleStart struct {
	Name string `json:"name" minLength:"1" maxLength:"100"`
	ScheduleSettings
}

// Schedule begins audits by itself.
type Schedule struct {
	ID  int64  `json:"id"`
	Tag string `json:"tag" doc:"Changes with what is set of it; as If-Match it keeps a change from undoing another one"`
	ScheduleStart
	Words     string     `json:"words" doc:"When, in words"`
	Endpoints int        `json:"endpoints" doc:"How many it is about now"`
	Next      *time.Time `json:"next,omitempty" doc:"When the next audit begins; absent while it is paused"`
	Last      *time.Time `json:"last,omitempty" doc:"When one was due last"`
	Skipped   string     `json:"skipped,omitempty" doc:"Why none began then"`
	Audit     *Audit     `json:"audit,omitempty" doc:"The one that began last"`
}
