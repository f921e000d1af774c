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
	calendar := ical.NewCalendarFor("Nurvik")
	calendar.SetProductId("-//Nurvik//nurvik expiry//EN")
	calendar.SetMethod(ical.MethodPublish)
	calendar.SetName("What is due")
	for _, due := range d.Dues {
		if due.Until.IsZero() {
			continue
		}
		id := due.SHA256.String()
		if due.SHA256.IsZero() {
			id = fmt.Sprintf("%s-%s", strings.ReplaceAll(string(due.Kind), " ", "-"), due.Label)
		}
		event := calendar.AddEvent(id + "@nurvik")
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

func exactly(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }
