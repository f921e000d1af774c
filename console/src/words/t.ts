import { en } from './en'
import type { WordKey } from './en'

/** Looks up a text and fills in its {braces}. */
export function t(key: WordKey, values: Record<string, string | number> = {}): string {
  return en[key].replace(/\{(\w+)\}/g, (whole, name: string) => String(values[name] ?? whole))
}

const dayMs = 86_400_000

/** Whole days from now until the moment; negative when it has passed. */
export function daysUntil(moment: string, now: Date = new Date()): number {
  return Math.floor((Date.parse(moment) - now.getTime()) / dayMs)
}

/** A number of days left in words. */
export function daysWords(days: number): string {
  if (days === -1) return t('time.yesterday')
  if (days < 0) return t('time.ago', { n: -days })
  if (days === 0) return t('time.today')
  return days === 1 ? t('time.day') : t('time.days', { n: days })
}

/** A date and time in UTC, to the minute, as the client writes it too. */
export function moment(text: string | undefined): string {
  return text ? `${text.slice(0, 10)} ${text.slice(11, 16)} UTC` : t('endpoint.never')
}
