import { t } from '../words/t'
import type { Cause } from '../api/client'

/** Findings from before causes were told have their code in common. */
export const keyOf = (cause: Cause): string => cause.id || cause.code

/** What all findings of a cause say, or what they have in common. */
export function causeWords(cause: Cause): string {
  if (cause.message) return cause.message
  return cause.about ? `${cause.title}: ${cause.about}.` : `${cause.title}.`
}

/** At how many places a cause is. */
export function whereWords({ endpoints, holdings, findings }: Cause): string {
  const words: string[] = []
  if (endpoints) words.push(endpoints === 1 ? t('audits.endpoint') : t('audits.endpoints', { n: endpoints }))
  if (holdings) words.push(holdings === 1 ? t('causes.holding') : t('causes.holdings', { n: holdings }))
  if (findings > endpoints + holdings) words.push(t('causes.findings', { n: findings }))
  return words.join(', ')
}
