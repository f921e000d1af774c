import type { Due } from '../api/client'

export type DueState = Due['state']
export const states = ['expired', 'expires-soon', 'renewal-due', 'not-yet-valid', 'in-date'] as const

/** A shape for each state, as an SVG path in a box of 12: a state is told without colour too. */
export const stateShapes: Record<DueState, { path: string; filled: boolean; colour: string }> = {
  expired: { path: 'M1.5 1.5h9v9h-9z', filled: true, colour: 'var(--faulty)' },
  'expires-soon': { path: 'M6 .8 11.2 6 6 11.2.8 6z', filled: true, colour: 'var(--at-risk)' },
  'renewal-due': { path: 'M6 .8 11.2 6 6 11.2.8 6z', filled: false, colour: 'var(--at-risk)' },
  'not-yet-valid': { path: 'M6 1.5a4.5 4.5 0 1 1 0 9 4.5 4.5 0 0 1 0-9z', filled: false, colour: 'var(--unreachable)' },
  'in-date': { path: 'M6 2.6a3.4 3.4 0 1 1 0 6.8 3.4 3.4 0 0 1 0-6.8z', filled: true, colour: 'var(--sound)' },
}
