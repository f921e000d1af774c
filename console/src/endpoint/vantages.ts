/** What each vantage sees of an endpoint, side by side. */
import { t } from '../words/t'
import type { Examination } from '../api/client'

export interface VantageColumn {
  name: string
  rows: { title: string; lines: string[] }[]
}

/** The place of an observation, as judgements name it. */
export const placeOf = (o: { address: string; vantage?: string }) =>
  o.vantage ? `${o.address} from ${o.vantage}` : o.address

/** A column for each vantage; none where the endpoint is visited from one place only. */
export function vantageColumns(x: Examination): VantageColumn[] {
  const seen = x.facts?.observations ?? []
  const lookups = x.facts?.vantages ?? []
  const names = [...new Set([...lookups.map((l) => l.name), ...seen.map((o) => o.vantage ?? '')])]
  if (names.length < 2) return []
  return names.map((name) => {
    const own = seen.filter((o) => (o.vantage ?? '') === name)
    const lookup = lookups.find((l) => l.name === name)
    const places = own.map(placeOf)
    const chains = (x.judgement?.chains ?? []).filter((c) => c.addresses?.some((a) => places.includes(a)))
    const leaves = chains.map((c) => c.view.given?.[0]).filter((leaf) => leaf !== undefined)
    const versions = own.flatMap((o) => (o.versions ?? []).filter((v) => v.answer === 'accepted').map((v) => v.name))
    const answers = own.map((o) => `${o.address}: ${o.outcome}`)
    if (lookup?.unvisited) answers.push(t('vantages.unvisited', { why: lookup.unvisited }))
    else if (lookup?.resolve_error) answers.push(t('vantages.nowhere'))
    return {
      name: name || t('vantages.here'),
      rows: [
        { title: t('vantages.answers'), lines: answers },
        { title: t('vantages.certificate'), lines: leaves.map((l) => `${l.label}, ${l.sha256.slice(0, 12)}…`) },
        { title: t('vantages.versions'), lines: [[...new Set(versions)].sort().join(', ')].filter(Boolean) },
      ],
    }
  })
}
