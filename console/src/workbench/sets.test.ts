import { describe, expect, it } from 'vitest'
import { setsOf } from './sets'
import type { Part, Sorted } from './sorter'

const part = (spki: string, what: Part['what']): Part => ({ name: `${what}.pem`, what, of: 'tides', spki, pem: '' })
const sorted = (groups: Sorted['groups'], parts: Part[]): Sorted => ({
  files: [],
  groups,
  unpaired: [],
  successions: [],
  parts,
  unread: [],
  servers: [],
})

describe('setsOf', () => {
  it('puts parts to the group of their key', () => {
    const group = {
      spki: 'aa',
      key: 'EC P-256',
      keys: [{ kind: 'private-key', path: 'tides.key' }],
      certificates: [{ kind: 'certificate', path: 'tides.crt', label: 'tides' }],
      requests: [],
    }
    const [set, ...rest] = setsOf(sorted([group], [part('aa', 'leaf'), part('aa', 'key')]))
    expect(rest).toEqual([])
    expect(set?.title).toBe('tides')
    expect(set?.members.map((m) => m.path)).toEqual(['tides.key', 'tides.crt'])
    expect(set?.parts.map((p) => p.what)).toEqual(['leaf', 'key'])
  })

  it('gives a leaf without its key a place of its own', () => {
    const sets = setsOf(sorted([], [part('bb', 'leaf'), part('bb', 'bundle')]))
    expect(sets).toHaveLength(1)
    expect(sets[0]?.parts.map((p) => p.name)).toEqual(['leaf.pem', 'bundle.pem'])
  })
})
