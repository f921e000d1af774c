import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import DeploymentTable from './DeploymentTable.vue'
import ProtocolTable from './ProtocolTable.vue'
import WireTables from './WireTables.vue'
import type { Observation, Shown } from '../api/client'

const shown: Shown = {
  address: '127.30.7.6:443',
  versions: [
    { name: 'TLS 1.3', answer: 'accepted', should: 'recommended', order: 'server', suite: 'TLS_AES_128_GCM_SHA256' },
    { name: 'TLS 1.2', answer: 'accepted', should: 'off', wrong: true, order: 'client' },
    { name: 'TLS 1.0', answer: 'declined' },
  ],
  suites: [
    { name: 'TLS_AES_128_GCM_SHA256', places: [1, 0] },
    { name: 'TLS_RSA_WITH_3DES_EDE_CBC_SHA', places: [0, 1], remark: 'weak', wrong: true },
    { name: 'TLS_RSA_WITH_AES_128_GCM_SHA256', places: [0, 2], remark: 'no-forward-secrecy' },
  ],
  settings: [
    { name: 'compression', is: 'yes', should: 'no', wrong: true },
    { name: 'resumption', is: 'not-shown' },
  ],
}
const observation: Observation = {
  address: shown.address,
  server_name: '',
  at: '',
  outcome: 'answered',
  versions: [],
  certificates: [],
  connections: [],
}

describe('ProtocolTable', () => {
  it('shows what the core says is wrong, and nothing else', () => {
    const table = mount(ProtocolTable, { props: { shown: [shown] } })
    expect(table.findAll('.wrong').map((cell) => cell.text())).toEqual(['accepted'])
    expect(table.get('[data-version="TLS 1.2"]').text()).toContain('off')
    expect(table.get('[data-version="TLS 1.0"]').text()).toContain('either')
    expect(table.get('[data-version="TLS 1.3"]').text()).toContain('TLS_AES_128_GCM_SHA256')
  })
  it('says so where nothing answered', () => {
    expect(mount(ProtocolTable, { props: { shown: [] } }).text()).toContain('No TLS answer')
  })
})

describe('WireTables', () => {
  const tables = mount(WireTables, { props: { observation, shown, several: false } })
  it('has a column for each accepted version and the place of each suite', () => {
    expect(
      tables
        .get('[data-test="suites"] thead')
        .findAll('th')
        .map((th) => th.text()),
    ).toEqual(['Cipher suite, with its place in the order', 'TLS 1.3', 'TLS 1.2', ''])
    expect(
      tables
        .get('[data-test="suites"] tbody tr')
        .findAll('td')
        .map((td) => td.text()),
    ).toEqual(['1', '·', ''])
    expect(tables.findAll('[data-test="suites"] .wrong')).toHaveLength(1)
    expect(tables.text()).toContain('no forward secrecy')
    expect(tables.get('[data-test="suites"]').text()).toContain('client')
  })
  it('shows settings beside what the policy wants', () => {
    expect(tables.get('[data-setting="compression"]').classes()).toContain('wrong')
    expect(tables.get('[data-setting="resumption"]').text()).toContain('either')
  })
})

describe('DeploymentTable', () => {
  const leaf = (certificate: string, place: string) => ({
    certificate,
    label: 'pilots.tarnholm.example',
    not_before: '2026-11-01T00:00:00Z',
    not_after: '2027-05-01T00:00:00Z',
    place,
  })
  const table = mount(DeploymentTable, {
    props: {
      deployments: [
        {
          endpoint: 'pilots.tarnholm.example:443',
          server: 'nginx',
          machine: 'wharf',
          agree: false,
          disk: leaf('bb', '/etc/ssl/pilots.pem'),
          configured: leaf('bb', '/etc/nginx/nginx.conf:6'),
          served: [leaf('aa', '192.0.2.7:443'), leaf('bb', '192.0.2.8:443')],
        },
        { endpoint: 'pilots.tarnholm.example:443', server: 'nginx', machine: 'quay', agree: true },
      ],
    },
  })
  it('shows disk, configuration and wire with their places', () => {
    const cells = table.findAll('tbody tr')[0]!.findAll('td')
    expect(cells.map((cell) => cell.text().includes(':') || cell.text().includes('/'))).toEqual([true, true, true])
    expect(cells[1]!.text()).toContain('/etc/nginx/nginx.conf:6')
  })
  it('marks what is served and not configured', () => {
    expect(table.findAll('.other').map((x) => x.text())).toEqual([expect.stringContaining('192.0.2.7:443')])
    expect(table.findAll('[data-agree="true"]')).toHaveLength(1)
  })
  it('says where there is none', () => {
    expect(table.findAll('tbody tr')[1]!.findAll('td').map((cell) => cell.text())).toEqual(
      Array(3).fill('no certificate'),
    )
  })
})
