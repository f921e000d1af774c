import type { Verdict } from '../api/client'

export const verdicts = ['faulty', 'at-risk', 'unreachable', 'sound'] as const

/** A shape for each verdict, as an SVG path in a box of 12: a verdict is told without colour too. */
export const shapes: Record<Verdict, { path: string; filled: boolean }> = {
  faulty: { path: 'M1.5 1.5h9v9h-9z', filled: true },
  'at-risk': { path: 'M6 .8 11.2 6 6 11.2.8 6z', filled: true },
  unreachable: { path: 'M6 1.5a4.5 4.5 0 1 1 0 9 4.5 4.5 0 0 1 0-9z', filled: false },
  sound: { path: 'M6 4a2 2 0 1 1 0 4 2 2 0 0 1 0-4z', filled: true },
  '': { path: 'M2.5 6h7', filled: false },
}
