import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import VantageTable from './VantageTable.vue'
import { vantageColumns } from './vantages'
import type { Examination } from '../api/client'

function examination(facts: object, chains: object[] = []) {
  return { facts, judgement: { chains } } as unknown as Examination
}
const seen = (vantage: string, versions: string[]) => ({
  address: '192.0.2.7:443',
  vantage,
  outcome: 'answered',
  versions: versions.map((name) => ({ name, answer: 'accepted' })),
})
const chain = (vantage: string, label: string) => ({
  addresses: [`192.0.2.7:443 from ${vantage}`],
  view: { given: [{ label, sha256: `${label}0123456789abcdef` }] },
})

describe('vantages', () => {
  it('are shown where there are several', () => {
    expect(vantageColumns(examination({ observations: [seen('', ['TLS 1.3'])] }))).toEqual([])
  })
  it('stand side by side, and what differs is marked', () => {
    const columns = vantageColumns(
      examination(
        {
          vantages: [{ name: 'inside' }, { name: 'outside' }, { name: 'attic', unvisited: 'nobody works there' }],
          observations: [seen('inside', ['TLS 1.3']), seen('outside', ['TLS 1.3'])],
        },
        [chain('inside', 'old'), chain('outside', 'new')],
      ),
    )
    const table = mount(VantageTable, { props: { columns } })
    const cells = table.findAll('tbody tr').map((tr) => tr.findAll('td').map((td) => td.text()))
    expect(cells).toEqual([
      ['192.0.2.7:443: answered', '192.0.2.7:443: answered', 'not visited: nobody works there'],
      ['old, old012345678…', 'new, new012345678…', 'not known'],
      ['TLS 1.3', 'TLS 1.3', 'not known'],
    ])
    expect(table.findAll('tr.differ').map((tr) => tr.get('th').text())).toEqual(['Certificate'])
  })
})
