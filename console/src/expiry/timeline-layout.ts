import type { DueDay, Timeline } from '../api/client'

const dayMs = 86_400_000
const laneHeight = 46
const top = 8
const axisHeight = 26

export interface Mark {
  day: DueDay
  x: number
  y: number
  /** Edge of the mark's box: the more end on a day, the larger. */
  size: number
}
export interface Tick {
  x: number
  label: string
}
export interface Layout {
  width: number
  height: number
  lanes: { kind: DueDay['kind']; y: number }[]
  marks: Mark[]
  ticks: Tick[]
  /** Where the present is; undefined outside of the range. */
  now: number | undefined
}

const kinds = ['leaf', 'intermediate', 'anchor'] as const

/** Places the marks of a timeline between the two edges. */
export function layOut(timeline: Timeline, width: number, left: number): Layout {
  const from = Date.parse(timeline.from)
  const until = Date.parse(timeline.until) + dayMs
  const right = 14
  const x = (moment: number) => left + ((moment - from) / (until - from)) * (width - left - right)
  const days = timeline.days ?? []
  const lanes = kinds
    .filter((kind) => days.some((d) => d.kind === kind))
    .map((kind, i) => ({ kind, y: top + laneHeight * i + laneHeight / 2 }))
  const marks = days.map((day) => ({
    day,
    x: x(Date.parse(day.day) + dayMs / 2),
    y: lanes.find((lane) => lane.kind === day.kind)?.y ?? 0,
    size: Math.min(10 + 5 * Math.log10(day.count), 26),
  }))
  const now = Date.parse(timeline.at)
  return {
    width,
    height: top + laneHeight * Math.max(lanes.length, 1) + axisHeight,
    lanes,
    marks,
    ticks: ticksOf(from, until).map((t) => ({ x: x(t), label: new Date(t).toISOString().slice(0, 7) })),
    now: now >= from && now <= until ? x(now) : undefined,
  }
}

/** The first days of months, or of every so many months, that there are at most about fourteen. */
function ticksOf(from: number, until: number): number[] {
  const first = new Date(from)
  const months = (until - from) / (30.44 * dayMs)
  const step = [1, 2, 3, 6, 12, 24].find((s) => months / s <= 14) ?? 36
  const out: number[] = []
  for (let m = 0; ; m++) {
    const t = Date.UTC(first.getUTCFullYear(), first.getUTCMonth() + m, 1)
    if (t >= until) return out
    if (t >= from && new Date(t).getUTCMonth() % Math.min(step, 12) === 0 && (step <= 12 ||
      new Date(t).getUTCFullYear() % (step / 12) === 0)) out.push(t)
  }
}
