import type { Member, Part, Sorted } from './sorter'

export type MaterialKind = 'private-key' | 'certificate' | 'request'

/** What belongs to one key, with the clean files that can be saved of it. */
export interface MaterialSet {
  spki: string
  title: string
  key: string
  members: (Member & { kind: MaterialKind })[]
  parts: Part[]
}

/** Groups as they are shown; a leaf without key or request has files to save too. */
export function setsOf(sorted: Sorted): MaterialSet[] {
  const sets: MaterialSet[] = sorted.groups.map((group) => {
    const members = [...group.keys, ...group.certificates, ...group.requests] as MaterialSet['members']
    return { spki: group.spki, title: members.find((m) => m.label)?.label ?? '', key: group.key, members, parts: [] }
  })
  const bySpki = new Map(sets.map((set) => [set.spki, set]))
  for (const part of sorted.parts) {
    let set = bySpki.get(part.spki)
    if (!set) {
      set = { spki: part.spki, title: part.of, key: '', members: [], parts: [] }
      bySpki.set(part.spki, set)
      sets.push(set)
    }
    set.parts.push(part)
  }
  return sets
}
