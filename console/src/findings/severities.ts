import type { components } from '../api/schema'

export type Severity = components['schemas']['JudgeFinding']['severity']

/** What a card shows. Findings that are not followed over time have no state. */
export interface CardFinding {
  code: string
  severity: Severity
  message: string
  remedy: string
  edits?: { server: string; line?: string; note?: string }[] | null
  waived?: { reason: string; until: string; by?: string } | null
  why: string
  reference: string
  evidence: { missing_pem?: string[] | null }
  addresses?: string[] | null
  state?: 'new' | 'standing' | 'gone' | 'back'
  first_seen?: string
}

/** From the worst. */
export const severities: Severity[] = ['fault', 'risk', 'none', 'note']
