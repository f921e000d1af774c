package report

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	ical "github.com/arran4/golang-ical"

	"nurvik/core/lifetime"
)

// ErrNoCalendar: the result of the command is no calendar.
var ErrNoCalendar = errors.New("-o icalendar is for \"nurvik expiry\" alone")

// calendarFormat writes a calendar (RFC 5545) with an event for each thing that
// ends: a leaf when its renewal is due, all else when it ends. The identifiers
// are made of what they are about, so that a subscribed calendar updates.
type calendarFormat struct{}

// Write implements Format.
func (calendarFormat) Write(w io.Writer, d Document, _ Style) error {
	if d.Dues == nil {
		return ErrNoCalendar
	}
	return Calendar(w, d.Dues)
}

// Calendar writes the calendar of what ends.
func Calendar(w io.Writer, dues []lifetime.Due) error {
	calendar := ical.NewCalendarFor("Nurvik")
	calendar.SetProductId("-//Nurvik//nurvik expiry//EN")
	calendar.SetMethod(ical.MethodPublish)
	calendar.SetName("What is due")
	last := map[string]int{} // of several CRLs of one issuer, or stapled responses of one endpoint, the newest counts
	for i, due := range dues {
		last[eventID(due)] = i
	}
	for i, due := range dues {
		id := eventID(due)
		if due.Until.IsZero() || last[id] != i {
			continue
		}
		event := calendar.AddEvent(id)
		begin, summary := due.Until, fmt.Sprintf("%s %s ends", due.Kind, due.Label)
		if due.Kind == lifetime.Leaf {
			summary = "Renew " + due.Label
			if due.Renew != nil {
				begin = *due.Renew
			}
		}
		event.SetDtStampTime(due.From.UTC()) // of the thing, so that the same data give the same calendar
		event.SetAllDayStartAt(begin.UTC())
		event.SetAllDayEndAt(begin.UTC().AddDate(0, 0, 1))
		event.SetSummary(summary)
		event.SetDescription(fmt.Sprintf("It ends on %s.\nIssued by %s.\nIn %s.", exactly(due.Until), due.Issuer,
			few(due.Places, mostNames)))
	}
	return calendar.SerializeTo(w, ical.WithNewLineWindows)
}

// eventID is the same for a certificate, and for whatever takes the place of a CRL or a stapled response.
func eventID(d lifetime.Due) string {
	if d.SHA256.IsZero() {
		return fmt.Sprintf("%s-%s@nurvik", strings.ReplaceAll(string(d.Kind), " ", "-"), d.Label)
	}
	return d.SHA256.String() + "@nurvik"
}

func exactly(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }
