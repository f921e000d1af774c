import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import CoverageMatrix from './CoverageMatrix.vue'
import type { Coverage } from '../api/client'

const coverage: Coverage = {
  covered: false,
  needed: [
    { name: 'tides.example', covered: [{ certificate: 0, entry: '*.example' }], missed: [{ certificate: 1,
      entry: 'ebb.example',
      reason: 'it is another host', remedy: 'Add it.' }] },
    { name: 'example', covered: [], missed: [{ certificate: 0, reason: 'no entry' }] },
  ],
  certificates: [
    { target: 'a', label: 'wild', sha256: 'aa', spki: 'bb', unneeded: ['old.example'] },
    { target: 'b', label: 'ebb', sha256: 'cc', spki: 'dd', unneeded: [] },
  ],
  proposal: { plain: ['example', 'tides.example'], wildcards: [] },
}

describe('CoverageMatrix', () => {
  it('says which entry covers a name, why none does, and what nobody needs', () => {
    const matrix = mount(CoverageMatrix, { props: { coverage } })
    const rows = matrix.findAll('tbody tr').map((row) => row.text())
    expect(rows[0]).toContain('· *.example')
    expect(rows[0]).toContain('ebb.example: it is another host. Add it.')
    expect(rows[1]).toContain('not coveredno entry.')
    expect(matrix.text()).toContain('Entries that cover none of these names: old.example.')
    expect(matrix.text()).toContain('The fewest entries that cover all: example, tides.example.')
  })
})
