import { describe, expect, it } from 'vitest'
import { protocolRows } from './protocol-rows'
import type { Observation } from '../api/client'

function observed(versions: Observation['versions']): Observation {
  return { address: '127.30.7.1:443', server_name: '', at: '', outcome: 'answered', versions, certificates: [], connections: [] }
}

describe('protocolRows', () => {
  it('has a row for each version, newest first, and a cell for each address', () => {
    const rows = protocolRows([observed([]), observed([])])
    expect(rows.map((r) => r.version)).toEqual(['TLS 1.3', 'TLS 1.2', 'TLS 1.1', 'TLS 1.0', 'SSL 3.0', 'SSL 2.0'])
    expect(rows.every((r) => r.cells.length === 2)).toBe(true)
  })
  it('marks accepted obsolete versions as wrong, and nothing else', () => {
    const rows = protocolRows([
      observed([
        { name: 'TLS 1.2', answer: 'accepted', suite: 'TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256' },
        { name: 'TLS 1.1', answer: 'accepted' },
        { name: 'TLS 1.0', answer: 'declined' },
      ]),
    ])
    expect(rows.filter((r) => r.cells[0]?.wrong).map((r) => r.version)).toEqual(['TLS 1.1'])
    expect(rows[1]?.cells[0]?.suite).toContain('GCM')
  })
  it('says of a version that was not asked that nothing was shown', () => {
    expect(protocolRows([observed([])])[0]?.cells[0]?.answer).toBe('not-shown')
  })
})
