package api_test

import (
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"nurvik/core/facts"
	"nurvik/core/inventory"
	"nurvik/core/judge"
	"nurvik/internal/api"
)

var wordStart = regexp.MustCompile(`([a-z0-9])([A-Z])|([A-Z])([A-Z][a-z])`)

// key is the JSON key that belongs to a name in Go: ServerName is server_name, CAIssuers is ca_issuers.
func key(name string) string {
	return strings.ToLower(wordStart.ReplaceAllString(name, "$1${3}_$2$4"))
}

// TestKeysAndNamesAgree: who knows a key of the JSON knows the name in Go.
func TestKeysAndNamesAgree(t *testing.T) {
	met := map[reflect.Type]bool{}
	var walk func(reflect.Type)
	walk = func(v reflect.Type) {
		switch v.Kind() {
		case reflect.Pointer, reflect.Slice, reflect.Array:
			walk(v.Elem())
		case reflect.Map:
			walk(v.Elem())
		case reflect.Struct:
			// The keys of Verdicts are verdicts.
			if met[v] || !strings.HasPrefix(v.PkgPath(), "nurvik/") || v == reflect.TypeFor[api.Verdicts]() {
				return
			}
			met[v] = true
			for f := range v.Fields() {
				tag, _, _ := strings.Cut(f.Tag.Get("json"), ",")
				if f.IsExported() && tag != "-" && !f.Anonymous {
					assert.Equal(t, key(f.Name), tag, "%s.%s", v, f.Name)
				}
				if f.IsExported() { // what is not is in no JSON
					walk(f.Type)
				}
			}
		}
	}
	for _, root := range []any{facts.Endpoint{}, facts.File{}, judge.Judgement{}, judge.Entry{}, inventory.Entry{},
		api.Endpoint{}, api.Finding{}, api.Audit{}, api.AuditStart{}, api.Examination{}, api.Holding{},
		api.HoldingView{},
		api.Policy{}, api.PolicyText{}, api.WhatIf{}, api.WhatIfView{}, api.WhatIfStart{}, api.Estate{}} {
		walk(reflect.TypeOf(root))
	}
	assert.Greater(t, len(met), 50)
}
