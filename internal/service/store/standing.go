package store

import (
	"slices"

	"nurvik/core/facts"
	"nurvik/core/judge"
	"nurvik/core/life"
)

// standing are those of the known findings that stay although they were not met this time, because an address or a
// vantage was not visited: what it would have shown may be there still. Those go whose every place was visited.
func standing[T any](known []T, finding func(T) Finding, f *facts.Endpoint, j judge.Judgement) (out []T) {
	if f == nil || len(f.Unvisited) == 0 {
		return nil
	}
	settled := map[string]bool{} // identities of findings that were met, and places that were visited
	for _, found := range j.Findings {
		settled[judge.Identity(j.Target, found)] = true
	}
	for _, o := range f.Observations {
		settled[o.Place()] = true
	}
	for _, k := range known {
		row := finding(k)
		visited := len(row.Finding.Addresses) > 0
		for _, place := range row.Finding.Addresses {
			visited = visited && settled[place]
		}
		if !settled[row.ID] && !visited && row.State != life.Gone {
			out = append(out, k)
		}
	}
	return out
}

// partly makes the verdict of an endpoint that was not visited everywhere one that also what was known before bears
// out. It returns the findings that stand, with the waivers that they had.
func (t *Tx) partly(e Endpoint, f *facts.Endpoint, j *judge.Judgement, waived func(judge.Judgement) judge.Judgement) (
	stand []Finding, tally judge.Tally, err error) {
	if f == nil || len(f.Unvisited) == 0 {
		return nil, judge.TallyOf(j.Findings), nil
	}
	var known []Finding
	if err := t.db.Where("endpoint_id = ? AND state <> ?", e.ID, life.Gone).Find(&known).Error; err != nil {
		return nil, tally, err
	}
	stand = standing(known, func(f Finding) Finding { return f }, f, *j)
	old := judge.Judgement{Target: j.Target}
	for _, s := range stand {
		old.Findings = append(old.Findings, s.Finding)
	}
	old = waived(old)
	for i := range stand {
		stand[i].Finding = old.Findings[i]
	}
	j.Verdict, tally = judge.Partly(*j, old.Findings, judge.Verdict(e.Verdict))
	return slices.Clip(stand), tally, nil
}
