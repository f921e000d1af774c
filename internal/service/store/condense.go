package store

import "context"

// Condense makes the older examinations of endpoints small: what they showed and what was found is kept once for all
// that are alike, and what no history tells (times, connections, what the issuers said, the whole judgement) is
// dropped. The visits of the audit go too; the examination has what they brought.
func (t *Tx) Condense(audit int64, endpoints []int64) error {
	if len(endpoints) == 0 {
		return nil
	}
	if err := t.db.Where("audit_id = ? AND endpoint_id IN ?", audit, endpoints).Delete(&Visit{}).Error; err != nil {
		return err
	}
	return t.db.Exec(condense, endpoints).Error
}

// condense leaves an examination as it is where another transaction stores the same contents at this moment: the next
// audit finds it again.
const condense = `
WITH old AS MATERIALIZED (
	SELECT x.audit_id, x.endpoint_id,
		(x.facts - 'revocation' - 'revocation_asked' - 'fetched') || jsonb_build_object('observations', coalesce((
			SELECT jsonb_agg(o - 'at' - 'connections' - 'staple'
					#- '{others,0,staple}' #- '{others,1,staple}' #- '{others,2,staple}' #- '{others,3,staple}'
					ORDER BY n)
			FROM jsonb_array_elements(CASE jsonb_typeof(x.facts -> 'observations')
				WHEN 'array' THEN x.facts -> 'observations' ELSE '[]' END) WITH ORDINALITY AS t (o, n)),
			'[]')) AS facts,
		jsonb_build_object('target', x.judgement -> 'target', 'findings', coalesce((
			SELECT jsonb_agg(jsonb_build_object('code', f -> 'code', 'subject', f -> 'subject') ORDER BY n)
			FROM jsonb_array_elements(CASE jsonb_typeof(x.judgement -> 'findings')
				WHEN 'array' THEN x.judgement -> 'findings' ELSE '[]' END) WITH ORDINALITY AS t (f, n)),
			'[]'))
			AS findings
	FROM examinations x JOIN endpoints e ON e.id = x.endpoint_id
	WHERE x.endpoint_id IN ? AND x.stage = 'closed' AND x.facts IS NOT NULL AND x.judgement IS NOT NULL
		AND x.audit_id IS DISTINCT FROM e.audit_id),
bodies AS MATERIALIZED (
	SELECT DISTINCT ON (digest) digest, body FROM (
		SELECT sha256(convert_to(facts::text, 'UTF8')) AS digest, facts AS body FROM old
		UNION ALL SELECT sha256(convert_to(findings::text, 'UTF8')), findings FROM old) b ORDER BY digest),
added AS (
	INSERT INTO contents (digest, body) SELECT digest, body FROM bodies ON CONFLICT (digest) DO NOTHING
	RETURNING id, digest),
known AS (
	SELECT id, digest FROM added
	UNION ALL SELECT c.id, c.digest FROM contents c JOIN bodies b ON b.digest = c.digest)
UPDATE examinations x SET facts = NULL, judgement = NULL, facts_id = f.id, findings_id = j.id
FROM old o
	JOIN known f ON f.digest = sha256(convert_to(o.facts::text, 'UTF8'))
	JOIN known j ON j.digest = sha256(convert_to(o.findings::text, 'UTF8'))
WHERE x.audit_id = o.audit_id AND x.endpoint_id = o.endpoint_id`

// ForgetVisits removes the visits that are left of an audit that has ended, a portion at a time.
func (s *Store) ForgetVisits(ctx context.Context, audit int64) error {
	for {
		done := s.read(ctx).Exec("DELETE FROM visits WHERE id IN (SELECT id FROM visits WHERE audit_id = ? LIMIT ?)",
			audit, portionRemoved)
		if done.Error != nil || done.RowsAffected < portionRemoved {
			return done.Error
		}
	}
}
