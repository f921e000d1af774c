import { moment, t } from '../words/t'
import type { WhatIf } from '../api/client'

/** What was asked, in words. */
export function questionWords(w: Pick<WhatIf, 'at' | 'policy' | 'distrust' | 'selected'>): string {
  const parts = [t('whatIf.asOf', { when: moment(w.at) })]
  if (w.policy) parts.push(t('whatIf.by', { policy: w.policy }))
  for (const digest of w.distrust ?? []) parts.push(t('whatIf.without', { digest: digest.slice(0, 12) }))
  if (w.selected) parts.push(w.selected === 1 ? t('whatIf.selectedOne') : t('whatIf.selected', { count: w.selected }))
  return parts.join(', ')
}

/** What a form asks; undefined where it says nothing that would be otherwise. */
export function questionOf(form: { at: string; policy: string; distrust: string }) {
  const distrust = form.distrust.split(/[\s,]+/).filter(Boolean)
  if (!form.at && !form.policy && !distrust.length) return undefined
  return {
    ...(form.at && { at: `${form.at}T00:00:00Z` }),
    ...(form.policy && { policy: form.policy }),
    ...(distrust.length && { distrust }),
  }
}
