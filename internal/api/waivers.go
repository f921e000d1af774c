package api

import "time"

// AcknowledgementNote is what somebody says of a finding that they have seen.
type AcknowledgementNote struct {
	Note string `json:"note,omitempty" maxLength:"2000"`
}

// WaiverStart waives findings of a code: everywhere, or of one endpoint, one holding, or the endpoints with a label.
type WaiverStart struct {
	Code       string `json:"code" minLength:"1" maxLength:"100"`
	EndpointID *int64 `json:"endpoint_id,omitempty" minimum:"1"`
	HoldingID  *int64 `json:"holding_id,omitempty" minimum:"1"`
	Label      string `json:"label,omitempty" maxLength:"300" doc:"KEY=VALUE"`
	Reason     string `json:"reason" minLength:"1" maxLength:"2000"`
	Until      string `json:"until" format:"date" doc:"The last day, in UTC"`
}

// Waiver takes findings out of verdicts until a day.
type Waiver struct {
	ID int64 `json:"id"`
	WaiverStart
	About     string    `json:"about,omitempty" doc:"The endpoint, holding or label; everything where it is absent"`
	By        string    `json:"by"`
	CreatedAt time.Time `json:"created_at"`
	Days      int       `json:"days" doc:"Days until it ends"`
}
