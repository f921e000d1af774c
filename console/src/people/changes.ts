import { moment, t } from '../words/t'

type Fields = Record<string, unknown>

/** What differs between two states of a thing, a line a field; what is new or gone is told whole. */
export function changesOf(before: unknown, after: unknown): string[] {
  const was = fieldsOf(before)
  const is = fieldsOf(after)
  const names = [...new Set([...Object.keys(was), ...Object.keys(is)])].filter(
    (name) => JSON.stringify(was[name]) !== JSON.stringify(is[name]) && !['id', 'created_at'].includes(name),
  )
  return names.map((name) => {
    if (!(name in was)) return t('activity.set', { name, after: words(is[name]) })
    if (!(name in is)) return t('activity.gone', { name, before: words(was[name]) })
    return t('activity.became', { name, before: words(was[name]), after: words(is[name]) })
  })
}

function fieldsOf(value: unknown): Fields {
  return value && typeof value === 'object' ? (value as Fields) : {}
}

function words(value: unknown): string {
  if (typeof value !== 'string') return JSON.stringify(value)
  return /^\d{4}-\d\d-\d\dT[\d:.]+Z$/.test(value) ? moment(value) : value
}
