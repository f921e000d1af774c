import { describe, expect, it } from 'vitest'
import { chainLayout } from './chain-layout'
import type { Chain, ChainLink, Description } from '../api/client'

function certificate(id: string, until = '2027-05-01T00:00:00Z'): Description {
  return {
    sha256: id,
    spki: id,
    subject: id,
    label: id,
    issuer: '',
    issuer_name: '',
    serial: '1',
    names: [],
    not_before: '2026-01-01T00:00:00Z',
    not_after: until,
    key: 'EC P-256',
    signature: '',
    ca: true,
  }
}
const link = (sha256: string, place: ChainLink['place'], role: ChainLink['role'] = 'intermediate'): ChainLink => ({
  sha256,
  label: sha256,
  role,
  place,
})
const path = (certificates: string[], valid: boolean) => ({
  certificates,
  valid,
  anchor: valid ? ('public' as const) : ('' as const),
})
const now = new Date('2026-11-25T00:00:00Z')

const crossed: Chain = {
  view: {
    given: [
      link('leaf', 'in-place', 'leaf'),
      link('issuing', 'in-place'),
      link('services', 'in-place'),
      link('cross', 'not-on-path'),
    ],
    right: [
      link('leaf', 'in-place', 'leaf'),
      link('issuing', 'in-place'),
      link('services', 'in-place'),
      link('root', 'anchor', 'root'),
    ],
    store: 'outer',
    complete: true,
  },
  audiences: [
    {
      store: 'outer',
      required: false,
      trusted: true,
      paths: [path(['leaf', 'issuing', 'services', 'root'], true), path(['leaf', 'issuing', 'cross'], false)],
    },
    {
      store: 'second',
      required: false,
      trusted: true,
      paths: [path(['leaf', 'issuing', 'cross', 'second root'], true)],
    },
  ],
  revocation: [],
}
const all = ['leaf', 'issuing', 'services', 'cross', 'root', 'second root'].map((id) => certificate(id))

describe('chainLayout', () => {
  it('puts the best path into one lane and the others beside it', () => {
    const layout = chainLayout(crossed, all, now)
    const where = Object.fromEntries(layout.nodes.map((n) => [n.id, `${n.lane}/${n.level}`]))
    expect(where).toEqual({
      leaf: '0/0',
      issuing: '0/1',
      services: '0/2',
      root: '0/3',
      cross: '1/2',
      'second root': '1/3',
    })
    expect([layout.lanes, layout.levels]).toEqual([2, 4])
  })
  it('joins what certifies what, and tells dead ends from valid paths', () => {
    const layout = chainLayout(crossed, all, now)
    const edges = layout.edges.map((e) => `${e.from.id}>${e.to.id}${e.best ? ' best' : ''}${e.valid ? ' valid' : ''}`)
    expect(edges).toContain('issuing>services best valid')
    expect(edges).toContain('issuing>cross valid')
    expect(edges).toHaveLength(5)
  })
  it('names the stores at their anchors', () => {
    const stores = Object.fromEntries(chainLayout(crossed, all, now).nodes.map((n) => [n.id, n.stores]))
    expect(stores['root']).toEqual(['outer'])
    expect(stores['second root']).toEqual(['second'])
    expect(stores['services']).toEqual([])
  })
  it('says where a certificate belongs and what has expired', () => {
    const chain: Chain = {
      view: {
        given: [link('leaf', 'in-place', 'leaf'), link('services', 'out-of-order'), link('issuing', 'out-of-order')],
        right: crossed.view.right,
        store: 'outer',
        complete: true,
      },
      audiences: [],
      revocation: [],
    }
    const layout = chainLayout(chain, [certificate('leaf'), certificate('issuing', '2026-01-02T00:00:00Z')], now)
    expect(layout.served.map((s) => s.belongs)).toEqual([undefined, 3, 2])
    expect(layout.served.map((s) => s.expired)).toEqual([false, false, true])
  })
  it('draws a chain of older facts, without paths, and an empty one', () => {
    expect(chainLayout({ view: crossed.view, audiences: null, revocation: null }, all, now).nodes).toHaveLength(4)
    expect(
      chainLayout({ view: { given: [], right: [], complete: false }, audiences: [], revocation: [] }, [], now).nodes,
    ).toHaveLength(0)
  })
})
