import { describe, expect, it } from 'vitest'
import { auditWords } from './audit-words'
import type { Audit } from '../api/client'

const audit: Audit = {
  id: 4,
  state: 'visiting',

  created_at: '2026-11-25T02:40:00Z',
  endpoints: 36,
  visits: 38,
  done: 12,
  judged: 9,
  verdicts: { sound: 0, 'at-risk': 0, faulty: 0, unreachable: 0 },
}

describe('auditWords', () => {
  it.each([
    ['counts visits while they last', {}, 'Audit 4: 12 of 38 visits'],
    [
      'says what ended it',
      { state: 'failed', finished_at: '2026-11-25T02:43:00Z', failure: 'no room' },
      'Audit 4 failed 2026-11-25 02:43 UTC: no room',
    ],
    [
      'sums up the verdicts at the end',
      {
        state: 'finished',
        finished_at: '2026-11-25T02:43:00Z',
        verdicts: { sound: 8, 'at-risk': 7, faulty: 17, unreachable: 4 },
      },
      '17 faulty, 7 at risk, 4 unreachable, 8 sound (audit 4, 2026-11-25 02:43 UTC)',
    ],
  ] as [string, Partial<Audit>, string][])('%s', (_name, change, words) => {
    expect(auditWords({ ...audit, ...change })).toBe(words)
  })
})
