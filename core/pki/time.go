package pki

import (
	"nurvik/core/plain"
	"strings"
	"time"
)

const sectionTime = "RFC 5280 section 4.1.2.5"

// timeForms are the spellings that are met, the first of each kind being the right one.
var timeForms = map[byte][]string{
	tagUTCTime: {"060102150405Z", "0601021504Z", "060102150405-0700", "0601021504-0700"},
	tagGeneralized: {"20060102150405Z", "200601021504Z", "20060102150405-0700", "20060102150405",
		"20060102150405.999999999Z"},
}

// time decodes a UTCTime or GeneralizedTime. The second result tells whether a
// time could be made out at all.
func (d *decoder) time(el element, field string) (time.Time, bool) {
	text := string(el.content)
	for i, form := range timeForms[el.tag] {
		at, err := time.Parse(form, text)
		if err != nil {
			continue
		}
		if at = at.UTC(); !plain.Time(at) {
			break // an offset leads out of the years that can be written
		}
		if el.tag == tagUTCTime && at.Year() >= 2050 {
			at = at.AddDate(-100, 0, 0) // two-digit years from 50 on are of the last century
		}
		// time.Parse takes a fraction where the form has none; the length tells.
		if i > 0 || strings.ContainsAny(text, ".,") {
			d.note(el.full, field, sectionTime, "the time %q is not written with seconds, without fraction and in UTC",
				clip(text))
		}
		if el.tag == tagGeneralized && at.Year() < 2050 {
			d.note(el.full, field, sectionTime, "a year before 2050 is written as GeneralizedTime instead of UTCTime")
		}
		return at, true
	}
	if el.tag != tagUTCTime && el.tag != tagGeneralized {
		d.note(el.full, field, sectionTime, "tag %#02x is no time", el.tag)
	} else {
		d.note(el.full, field, sectionTime, "%q is no time", clip(text))
	}
	return time.Time{}, false
}

// clip bounds how much of a hostile text a message carries.
func clip(text string) string {
	if len(text) > 64 {
		return strings.ToValidUTF8(text[:64], "\uFFFD") + "…"
	}
	return text
}
