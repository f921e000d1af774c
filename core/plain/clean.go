package plain

import (
	"math"
	"net/netip"
	"reflect"
	"time"
)

// Time reports whether the time can be written: RFC 3339, section 1, and with it
// JSON, knows the years 0 to 9999.
func Time(t time.Time) bool {
	year := t.UTC().Year()
	return year >= 0 && year <= 9999
}

// Clean makes everything that the pointer leads to fit to be kept: each text by
// Text, each int by bringing it into 0 … 2³¹−1, and a time that cannot be written
// by making it zero. Byte strings stay as they are. What is clean already is not
// written to, so that it may be shared.
func Clean[T any](x *T) { walk(reflect.ValueOf(x).Elem(), Text) }

// CleanLines is the same for what was computed from clean facts: texts may have
// several lines and any length.
func CleanLines[T any](x *T) { walk(reflect.ValueOf(x).Elem(), Lines) }

var timeType, addressType = reflect.TypeFor[time.Time](), reflect.TypeFor[netip.AddrPort]()

// CleanLinesIn is CleanLines for a pointer whose type is not known.
func CleanLinesIn(pointer any) {
	if v := reflect.ValueOf(pointer); v.Kind() == reflect.Pointer && !v.IsNil() {
		walk(v.Elem(), Lines)
	}
}

func walk(v reflect.Value, text func(string) string) {
	switch v.Kind() {
	case reflect.String:
		s := v.String()
		if clean := text(s); len(clean) != len(s) || clean != s {
			v.SetString(clean)
		}
	case reflect.Int:
		if n := min(max(v.Int(), 0), math.MaxInt32); n != v.Int() {
			v.SetInt(n)
		}
	case reflect.Interface: // what is in it cannot be changed
	case reflect.Pointer:
		if !v.IsNil() {
			walk(v.Elem(), text)
		}
	case reflect.Slice, reflect.Array:
		if v.Type().Elem().Kind() == reflect.Uint8 {
			return
		}
		for i := range v.Len() {
			walk(v.Index(i), text)
		}
	case reflect.Map:
		walkMap(v, text)
	case reflect.Struct:
		switch v.Type() {
		case timeType:
			if x, ok := v.Addr().Interface().(*time.Time); ok && !Time(*x) {
				*x = time.Time{}
			}
			return
		case addressType: // a zone is any text
			x, ok := v.Addr().Interface().(*netip.AddrPort)
			if zone := x.Addr().Zone(); ok && Name(zone) != zone {
				*x = netip.AddrPortFrom(x.Addr().WithZone(""), x.Port())
			}
			return
		}
		for i := range v.NumField() {
			if f := v.Field(i); f.CanSet() {
				walk(f, text)
			}
		}
	}
}

// walkMap writes a map anew where keys or values change, since they cannot be changed in it.
func walkMap(v reflect.Value, text func(string) string) {
	if v.IsNil() {
		return
	}
	for it := v.MapRange(); it.Next(); {
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		key.Set(it.Key())
		value.Set(it.Value())
		walk(key, text)
		walk(value, text)
		if !key.Equal(it.Key()) {
			v.SetMapIndex(it.Key(), reflect.Value{})
		}
		v.SetMapIndex(key, value)
	}
}
