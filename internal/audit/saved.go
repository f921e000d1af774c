package audit

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"

	"nurvik/core/facts"
	"nurvik/core/inputfile"
)

// Saved reads the endpoint of a result that "nurvik audit ENDPOINT -o json" wrote. It reports false for any other
// file, and for what is none.
func Saved(path string) (e facts.Endpoint, saved bool, err error) {
	if info, statErr := os.Stat(path); statErr != nil || !info.Mode().IsRegular() {
		return e, false, nil
	}
	data, err := inputfile.Read(path)
	if err != nil || !bytes.HasPrefix(bytes.TrimSpace(data), []byte("{")) {
		return e, false, nil //nolint:nilerr // whoever reads it as material says what is wrong
	}
	var report struct {
		Schema  string `json:"schema"`
		Targets []struct {
			Kind  string          `json:"kind"`
			Facts json.RawMessage `json:"facts"`
		} `json:"targets"`
	}
	if json.Unmarshal(data, &report) != nil || report.Schema != Schema {
		return e, false, nil
	}
	found := 0
	for _, t := range report.Targets {
		if t.Kind != "endpoint" {
			continue
		}
		found++
		if err := json.Unmarshal(t.Facts, &e); err != nil {
			return e, true, fmt.Errorf("%s: the facts of an endpoint cannot be read: %w", path, err)
		}
	}
	switch {
	case found != 1:
		return e, true, fmt.Errorf("%s has the results of %d endpoints; save that of the one to compare with "+
			"\"nurvik audit ENDPOINT -o json\"", path, found)
	case !facts.Readable(e.Schema):
		return e, true, fmt.Errorf("%s has facts of the form %q, which cannot be read here; this is for %s", path,
			e.Schema,
			facts.Schema)
	}
	return e, true, nil
}

// Endpoints visits the endpoints of the plan, and says of which no certificate was seen.
func (p *Plan) Endpoints(ctx context.Context, o Options) (observed []facts.Endpoint, unexamined []Unexamined) {
	observed, errs := p.visit(ctx, o)
	unexamined = p.unexamined
	for i, v := range p.visits {
		if len(servedLeaves(observed[i])) == 0 {
			unexamined = append(unexamined, Unexamined{v.target.Endpoint.String(), whyNone(observed[i], errs[i])})
		}
	}
	return observed, unexamined
}
