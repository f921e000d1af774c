import { describe, expect, it } from 'vitest'
import { daysUntil, daysWords, moment, t } from './t'

describe('t', () => {
  it('fills in what is between braces and leaves what it does not know', () => {
    expect(t('audit.visiting', { id: 7, done: 3, visits: 40 })).toBe('Audit 7: 3 of 40 visits')
    expect(t('audit.planning')).toBe('Audit {id}: finding addresses')
  })
})

describe('days', () => {
  const now = new Date('2026-11-25T12:00:00Z')
  it.each([
    ['expires in nine days less a second', '2026-12-04T11:59:59Z', 8, '8 days'],
    ['expires in exactly one day', '2026-11-26T12:00:00Z', 1, '1 day'],
    ['expires within the day', '2026-11-25T13:00:00Z', 0, 'today'],
    ['expired an hour ago', '2026-11-25T11:00:00Z', -1, 'a day ago'],
    ['expired a week ago', '2026-11-18T12:00:00Z', -7, '7 days ago'],
  ])('%s', (_name, end, days, words) => {
    expect(daysUntil(end, now)).toBe(days)
    expect(daysWords(days)).toBe(words)
  })
})

describe('moment', () => {
  it('writes UTC to the minute', () => expect(moment('2026-11-25T02:43:55.123Z')).toBe('2026-11-25 02:43 UTC'))
  it('says never for none', () => expect(moment(undefined)).toBe('never'))
})
