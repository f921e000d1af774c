import { onScopeDispose, reactive, ref, shallowRef, watch } from 'vue'
import { api, result } from '../api/client'
import { verdicts } from '../look/verdicts'
import type { Endpoint, Failure } from '../api/client'

export const columns = ['verdict', 'target', 'not_after', 'issuer'] as const
export type Column = (typeof columns)[number]

export interface Query {
  search: string
  /** Whose endpoints are listed; '' for everybody's. */
  owner: string
  verdict: (typeof verdicts)[number] | ''
  sort: Column
  desc: boolean
}

export const pageSize = 100
const furtherSize = 1000 // of the pages after it
const typingPause = 200 // ms between the last key and the search

/** The list of endpoints as filtered and sorted; the service does both, so any size of estate works. */
export function useEndpoints() {
  const query = reactive<Query>({ search: '', owner: '', verdict: '', sort: 'verdict', desc: false })
  const items = shallowRef<Endpoint[]>([])
  const counts = ref<Record<string, number>>({})
  const next = ref<string>()
  const loaded = ref(false)
  const failure = ref<Failure>()
  let latest = 0 // answers to older questions are dropped
  let timer: ReturnType<typeof setTimeout> | undefined

  async function fetchPage(cursor?: string) {
    const question = ++latest
    const answer = await result(
      api.GET('/api/v1/endpoints', {
        params: {
          query: {
            limit: cursor ? furtherSize : pageSize,
            sort: query.sort,
            desc: query.desc,
            ...(query.search && { q: query.search }),
            ...(query.owner && { owner: query.owner }),
            ...(query.verdict && { verdict: query.verdict }),
            ...(cursor && { cursor }),
          },
        },
      }),
    )
    if (question !== latest) return
    failure.value = answer.ok ? undefined : answer.failure
    if (!answer.ok) return
    const page = answer.value.items ?? []
    items.value = cursor ? [...items.value, ...page] : page
    counts.value = answer.value.verdicts
    next.value = answer.value.next
    loaded.value = true
  }

  function load() {
    return fetchPage()
  }
  function more() {
    return fetchPage(next.value)
  }
  function sortBy(column: Column) {
    query.desc = query.sort === column && !query.desc
    query.sort = column
  }

  watch(
    () => [query.owner, query.verdict, query.sort, query.desc],
    () => load(),
  )
  watch(
    () => query.search,
    () => {
      clearTimeout(timer)
      timer = setTimeout(load, typingPause)
    },
  )
  onScopeDispose(() => {
    clearTimeout(timer)
    latest++
  })
  return { query, items, counts, next, loaded, failure, load, more, sortBy }
}
