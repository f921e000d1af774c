import type { Observation } from '../api/client'

export interface SuiteRow {
  suite: string
  /** The place in the order of each version, 0 where it is not accepted. */
  places: number[]
  /** Nothing protects what is sent, or too little. */
  weak: boolean
  forwardSecrecy: boolean
}

/** Accepted versions with their suites, newest first, as a matrix. */
export function suiteMatrix(o: Observation): { versions: string[]; orders: string[]; rows: SuiteRow[] } {
  const accepted = (o.versions ?? []).filter((v) => v.answer === 'accepted')
  const names = [...new Set(accepted.flatMap((v) => v.suites ?? []))]
  return {
    versions: accepted.map((v) => v.name),
    orders: accepted.map((v) => v.order ?? ''),
    rows: names.map((suite) => ({
      suite,
      places: accepted.map((v) => (v.suites ?? []).indexOf(suite) + 1),
      weak: /NULL|_anon_|EXPORT|RC4|RC2|DES_|DES40|^SSL2_|_MD5$/.test(suite),
      forwardSecrecy: !suite.includes('_WITH_') || /DHE|_anon_/.test(suite),
    })),
  }
}

type Setting = Exclude<keyof NonNullable<Observation['settings']>, 'signature_schemes'>

/** The settings in the order in which they are shown, with what they should be; "" where both are in order. */
export const settings: { name: Setting; should: 'yes' | 'no' | '' }[] = [
  { name: 'renegotiation_info', should: 'yes' },
  { name: 'extended_master_secret', should: 'yes' },
  { name: 'encrypt_then_mac', should: '' },
  { name: 'compression', should: 'no' },
  { name: 'fallback_signal', should: '' },
  { name: 'session_tickets', should: '' },
  { name: 'resumption', should: '' },
  { name: 'heartbeat', should: 'no' },
  { name: 'downgrade_marker', should: '' },
  { name: 'tolerates_unknown', should: 'yes' },
  { name: 'tolerates_large', should: 'yes' },
]

export interface SettingRow {
  name: Setting
  is: string
  should: 'yes' | 'no' | ''
  wrong: boolean
}

/** Each setting as it was shown, and whether that is wrong. */
export function settingRows(o: Observation): SettingRow[] {
  return settings.map(({ name, should }) => {
    const is = o.settings?.[name] ?? 'not-shown'
    return { name, is, should, wrong: should !== '' && (is === 'yes' || is === 'no') && is !== should }
  })
}
