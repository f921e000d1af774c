import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import AudienceTable from './AudienceTable.vue'
import LeafDetails from './LeafDetails.vue'
import type { Chain, Description } from '../api/client'

const named = (sha256: string, label: string) => ({ sha256, label }) as Description
const certificates = [named('a', 'tides.tarnholm.example'), named('b', 'Outer Issuing')]
const chain = (audiences: unknown[], revocation: unknown[] = []) =>
  ({ audiences, revocation, view: { given: [], right: [], complete: true } }) as unknown as Chain
const path = { certificates: ['a', 'b'], valid: true, borrowed: false }

describe('AudienceTable', () => {
  it.each([
    ['one that accepts', { store: 'outer', trusted: true, required: false, until: '2027-05-25T00:00:00Z',
      paths: [path] },
      ['outer', 'one of these is enough', 'yes', 'until 2027-05-25', '✓ tides.tarnholm.example ← Outer Issuing']],
    ['one that does not', { store: 'inner', trusted: false, required: true, reason: 'not in this trust store',
      paths: [{ ...path, valid: false, reason: 'Outer Root is not in this trust store' }] },
    ['must accept', 'no', 'not in this trust store', '✗', 'Outer Root is not in this trust store']],
    ['a path that breaks', { store: 'outer', trusted: true, required: true,
      paths: [{ ...path, borrowed: true, ends: '2027-01-02T00:00:00Z', ends_with: 'Outer Issuing' }] },
    ['with certificates that were not served; breaks on 2027-01-02, when Outer Issuing expires']],
    ['too many paths', { store: 'outer', trusted: false, required: true, paths: [], more: 12, gave_up: true },
      ['12 more paths', 'ended before every path was seen']],
    ['a certificate that nobody knows', { store: 'outer', trusted: true, required: true,
      paths: [{ ...path, certificates: ['0123456789abcdef'] }] }, ['0123456789ab']],
  ])('shows %s', (_, audience, parts) => {
    const text = mount(AudienceTable, { props: { chain: chain([audience]), certificates } }).text()
    for (const part of parts) expect(text).toContain(part)
  })
  it('shows what is known of revocation, in the words of the core', () => {
    const state = { certificate: 'a', label: 'tides.tarnholm.example', state: 'revoked', words: 'the CRL: revoked' }
    const table = mount(AudienceTable, { props: { chain: chain([], [state]), certificates } })
    expect(table.get('[data-test="revocation"]').text()).toContain('the CRL: revoked')
    expect(table.find('[data-state="revoked"]').exists()).toBe(true)
  })
})

describe('LeafDetails', () => {
  it('shows names, key, signature, serial number and fingerprint', () => {
    const certificate = { ...named('ab12', 'tides'), names: ['tides.tarnholm.example', 'ebb.tarnholm.example'],
      key: 'EC P-256', signature: 'SHA-256 with ECDSA', serial: '0a' }
    const text = mount(LeafDetails, { props: { certificate } }).text()
    for (const part of ['tides.tarnholm.example, ebb.tarnholm.example', 'EC P-256', 'SHA-256 with ECDSA', '0a', 'ab12'])
      expect(text).toContain(part)
  })
})
