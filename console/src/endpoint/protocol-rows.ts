import type { Observation } from '../api/client'

export const versions = ['TLS 1.3', 'TLS 1.2', 'TLS 1.1', 'TLS 1.0', 'SSL 3.0', 'SSL 2.0'] as const
export type Version = (typeof versions)[number]

/** What each version should be, after RFC 9325, section 3.1.1. */
export const expected: Record<Version, 'on' | 'off' | 'recommended'> = { 'TLS 1.3': 'recommended', 'TLS 1.2': 'on', 'TLS 1.1': 'off', 'TLS 1.0': 'off', 'SSL 3.0': 'off', 'SSL 2.0': 'off' }

export interface ProtocolCell {
  answer: NonNullable<Observation['versions']>[number]['answer']
  suite?: string
  wrong: boolean // it is accepted and should be off
}

export interface ProtocolRow {
  version: Version
  cells: ProtocolCell[]
}

/** One row a version, one cell an address. */
export function protocolRows(observations: Observation[]): ProtocolRow[] {
  return versions.map((version) => ({
    version,
    cells: observations.map((observation) => {
      const fact = observation.versions?.find((v) => v.name === version)
      const answer = fact?.answer ?? 'not-shown'
      return { answer, suite: fact?.suite, wrong: answer === 'accepted' && expected[version] === 'off' }
    }),
  }))
}
