import { describe, expect, it } from 'vitest'
import { settingRows, suiteMatrix } from './wire-rows'
import type { Observation } from '../api/client'

const observation: Observation = {
  address: '127.30.7.6:443', server_name: '', at: '', outcome: 'answered', certificates: [], connections: [],
  versions: [
    { name: 'TLS 1.3', answer: 'accepted', suites: ['TLS_AES_128_GCM_SHA256'] },
    { name: 'TLS 1.2', answer: 'accepted', suites: ['TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256', 'TLS_RSA_WITH_3DES_EDE_CBC_SHA'], order: 'client' },
    { name: 'TLS 1.1', answer: 'declined' },
    { name: 'TLS 1.0', answer: 'accepted', suites: ['TLS_RSA_WITH_3DES_EDE_CBC_SHA'] },
  ],
}

describe('suiteMatrix', () => {
  it('has a column for each accepted version and the place of each suite', () => {
    const matrix = suiteMatrix(observation)
    expect(matrix.versions).toEqual(['TLS 1.3', 'TLS 1.2', 'TLS 1.0'])
    expect(matrix.rows.map((r) => r.places)).toEqual([[1, 0, 0], [0, 1, 0], [0, 2, 1]])
    expect(matrix.orders).toEqual(['', 'client', ''])
  })
  it('marks what is weak and what has no forward secrecy', () => {
    const rows = suiteMatrix(observation).rows
    expect(rows.map((r) => r.weak)).toEqual([false, false, true])
    expect(rows.map((r) => r.forwardSecrecy)).toEqual([true, true, false])
  })
})

describe('settingRows', () => {
  it('calls wrong what is known and not as it should be', () => {
    const shown = (answer: 'yes' | 'no' | 'not-shown'): NonNullable<Observation['settings']> => ({
      renegotiation_info: answer, extended_master_secret: answer, encrypt_then_mac: answer, compression: answer, fallback_signal: answer, session_tickets: answer,
      resumption: answer, heartbeat: answer, downgrade_marker: answer, tolerates_unknown: answer, tolerates_large: answer,
    })
    const wrong = (answer: 'yes' | 'no' | 'not-shown') => settingRows({ ...observation, settings: shown(answer) }).filter((r) => r.wrong).map((r) => r.name)
    expect(wrong('yes')).toEqual(['compression', 'heartbeat'])
    expect(wrong('no')).toEqual(['renegotiation_info', 'extended_master_secret', 'tolerates_unknown', 'tolerates_large'])
    expect(wrong('not-shown')).toEqual([])
    expect(settingRows(observation).every((r) => r.is === 'not-shown')).toBe(true)
  })
})
