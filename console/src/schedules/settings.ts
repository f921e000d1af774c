import type { Schedule, ScheduleStart } from '../api/client'

export const days = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'] as const
export type Day = (typeof days)[number]

/** What stands in the form. */
export interface Texts {
  name: string
  rhythm: 'every' | 'at'
  every: number
  at: string
  days: Day[]
  zone: string
  quiet: string
  spread: number
  label: string
}

/** The form of a schedule, or of a new one, in the time zone of whoever makes it. */
export function textsOf(schedule: Partial<Schedule>, zone: string): Texts {
  return {
    name: schedule.name ?? '',
    rhythm: schedule.at?.length ? 'at' : 'every',
    every: schedule.every ?? 24,
    at: schedule.at?.join(', ') ?? '02:00',
    days: [...(schedule.days ?? [])],
    zone: schedule.id ? (schedule.zone ?? 'UTC') : zone || 'UTC',
    quiet: schedule.quiet ?? '',
    spread: schedule.spread ?? 0,
    label: schedule.label ?? '',
  }
}

/** The settings that a form says. What is wrong with them the service tells. */
export function settingsOf(form: Texts, paused?: boolean): ScheduleStart {
  return {
    name: form.name.trim(),
    ...(form.rhythm === 'every' ? { every: form.every } : { at: form.at.split(/[\s,;]+/).filter(Boolean) }),
    ...(form.days.length ? { days: days.filter((day) => form.days.includes(day)) } : {}),
    zone: form.zone,
    ...(form.quiet.trim() ? { quiet: form.quiet.trim() } : {}),
    ...(form.spread ? { spread: form.spread } : {}),
    ...(form.label.trim() ? { label: form.label.trim() } : {}),
    ...(paused ? { paused } : {}),
  }
}
