import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import FindingCard from '../findings/FindingCard.vue'
import EntryTable from './EntryTable.vue'
import PairList from './PairList.vue'
import type { Entry, Sorted } from './sorter'

const entry: Entry = {
  kind: 'certificate',
  what: 'certificate',
  line: 12,
  offset: 700,
  label: 'tides.tarnholm.example',
  names: ['tides.tarnholm.example', 'ebb.tarnholm.example'],
  not_before: '2026-05-01T00:00:00Z',
  not_after: '2026-11-16T00:00:00Z',
  key: 'EC P-256',
  issuer: 'Skerry Outer Issuing',
  remarks: ['marked as trusted'],
  fields: [{ name: 'version', values: ['3'] }],
  anomalies: [{ offset: 9, field: 'serialNumber', text: 'the serial number is negative', source: 'RFC 5280' }],
}

describe('EntryTable', () => {
  it('says in one line what a thing is', () => {
    const text = mount(EntryTable, { props: { entries: [{ path: 'tides.pem', entry }] } })
      .get('tbody tr')
      .text()
    for (const part of [
      'tides.pem:12',
      'certificate',
      'marked as trusted',
      'tides.tarnholm.example',
      'ebb.tarnholm.example',
      '2026-05-01 – 2026-11-16',
      'EC P-256',
      'Skerry Outer Issuing',
    ]) {
      expect(text).toContain(part)
    }
  })

  it('shows every field and anomaly when asked, and hides them again', async () => {
    const table = mount(EntryTable, { props: { entries: [{ path: 'tides.pem', entry }] } })
    expect(table.find('dl').exists()).toBe(false)
    await table.get('.more').trigger('click')
    expect(table.get('dl').text()).toContain('at byte 9, serialNumber: the serial number is negative')
    expect(table.get('.more').attributes('aria-expanded')).toBe('true')
    await table.get('.more').trigger('click')
    expect(table.find('dl').exists()).toBe(false)
  })
})

describe('PairList', () => {
  const sorted: Sorted = {
    files: [],
    groups: [
      {
        spki: 'aa',
        key: 'EC P-256',
        keys: [{ kind: 'private-key', path: 'tides.key' }],
        certificates: [{ kind: 'certificate', path: 'tides.crt', label: 'tides', valid: true }],
        requests: [],
      },
    ],
    unpaired: [{ kind: 'private-key', path: 'spare.key', why: 'no certificate or request has this key' }],
    successions: [
      {
        names: ['tides'],
        steps: [
          {
            certificate: { kind: 'certificate', path: 'old.crt', not_before: '2025-05-01T00:00:00Z' },
            paths: ['old.crt'],
          },
        ],
      },
    ],
    parts: [
      { name: 'tides.key', what: 'key', of: 'tides', spki: 'aa', pem: 'PEM', note: 'It was encrypted.' },
      { name: 'lone.crt', what: 'leaf', of: 'lone', spki: 'bb', pem: 'PEM' },
    ],
    unread: [],
    servers: ['nginx'],
  }

  it('groups, tells what is left over, and offers what can be saved', () => {
    const list = mount(PairList, { props: { sorted } })
    const [first, second] = list.findAll('[data-test="set"]').map((s) => s.text())
    expect(first).toContain('valid now')
    expect(first).toContain('It was encrypted.')
    expect(second).toContain('No key and no request for it is here.')
    expect(list.text()).toContain('no certificate or request has this key')
    expect(list.text()).toContain('2025-05-01: old.crt')
    expect(list.find('[data-test="save-key"]').exists()).toBe(true)
  })

  it('says so when nothing belongs together', () => {
    const list = mount(PairList, {
      props: { sorted: { ...sorted, groups: [], parts: [], unpaired: [], successions: [] } },
    })
    expect(list.text()).toContain('Nothing here belongs together')
  })
})

describe('FindingCard', () => {
  const finding = {
    code: 'pair.key-mismatch',
    severity: 'fault' as const,
    message: 'They do not fit.',
    remedy: 'Find the key.',
    why: 'Servers refuse.',
    reference: 'RFC 5280',
    evidence: {},
  }

  it('shows where it is, and no life where nothing is followed', () => {
    const card = mount(FindingCard, { props: { finding, place: '/etc/ssl/tides.key' } })
    expect(card.text()).toContain('/etc/ssl/tides.key')
    expect(card.find('.since').exists()).toBe(false)
  })

  it('shows since when a finding is known', () => {
    const card = mount(FindingCard, {
      props: { finding: { ...finding, state: 'standing' as const, first_seen: '2026-11-20T10:00:00Z' } },
    })
    expect(card.get('.since').text()).toBe('standing since 2026-11-20')
  })
})
