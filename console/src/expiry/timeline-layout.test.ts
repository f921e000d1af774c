import { describe, expect, it } from 'vitest'
import { layOut } from './timeline-layout'
import type { DueDay, Timeline } from '../api/client'

const day = (date: string, kind: DueDay['kind'] = 'leaf', count = 1): DueDay => ({ day: date, kind, count,
  state: 'in-date', labels: ['a'] })
const timeline = (from: string, until: string, days: DueDay[], at = '2026-12-01T00:00:00Z'): Timeline => ({
  from, until, days, at, past: 0, later: 0 })

describe('layOut', () => {
  it('puts marks between the edges, in the lane of their kind', () => {
    const days = [day('2026-11-01'), day('2026-12-30', 'anchor'), day('2026-11-30')]
    const l = layOut(timeline('2026-11-01', '2026-12-30', days), 1000, 100)
    expect(l.lanes.map((lane) => lane.kind)).toEqual(['leaf', 'anchor'])
    const [first, last, middle] = l.marks
    expect(first?.x).toBeCloseTo(107.4, 1)
    expect(last?.x).toBeCloseTo(978.6, 1)
    expect(middle && first && last && middle.x - first.x).toBeCloseTo(428.2, 1)
    expect(last?.y).toBe(l.lanes[1]?.y)
    expect(l.now).toBeCloseTo(543, 0)
  })
  it('draws many on one day larger, within bounds', () => {
    const days = [day('2026-11-02'), day('2026-11-03', 'leaf', 100), day('2026-11-04', 'leaf', 1_000_000)]
    const sizes = layOut(timeline('2026-11-01', '2026-12-30', days), 1000, 100).marks.map((m) => m.size)
    expect(sizes).toEqual([10, 20, 26])
  })
  it.each([
    ['a month', '2026-11-10', '2026-12-20', ['2026-12']],
    ['a year', '2026-11-10', '2027-11-20', 12],
    ['fourteen years', '2026-01-01', '2039-12-31', 14],
  ])('marks the beginnings of months: %s', (_, from, until, want) => {
    const labels = layOut(timeline(from, until, []), 1000, 100).ticks.map((t) => t.label)
    if (typeof want === 'number') expect(labels).toHaveLength(want)
    else expect(labels).toEqual(want)
  })
  it('shows no present outside of the range', () => {
    expect(layOut(timeline('2027-01-01', '2027-02-01', []), 1000, 100).now).toBeUndefined()
  })
})
