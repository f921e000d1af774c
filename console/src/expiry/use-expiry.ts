import { onScopeDispose, reactive, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, result } from '../api/client'
import { states } from './states'
import type { Due, Failure, Forecast, Timeline } from '../api/client'

export const kinds = ['leaf', 'intermediate', 'anchor'] as const

/** What is asked for; it stands in the address bar, so that it can be kept and sent. */
export interface Filters {
  q: string
  kind: (typeof kinds)[number] | ''
  state: (typeof states)[number] | ''
  from: string
  until: string
  minutes: number
}

const pageSize = 100
const typingPause = 200 // ms between the last key and the search

const one = <T extends string>(value: unknown, list: readonly T[]): T | '' => list.find((x) => x === value) ?? ''
const day = (value: unknown) => (typeof value === 'string' && /^\d{4}-\d\d-\d\d$/.test(value) ? value : '')

export function useExpiry() {
  const route = useRoute()
  const router = useRouter()
  const filters = reactive<Filters>({
    q: typeof route.query.q === 'string' ? route.query.q : '',
    kind: one(route.query.kind, kinds),
    state: one(route.query.state, states),
    from: day(route.query.from),
    until: day(route.query.until),
    minutes: Math.min(Math.max(Number(route.query.minutes) || 30, 1), 100_000),
  })
  const items = shallowRef<Due[]>([])
  const counts = ref<Record<string, number>>({})
  const total = ref(0)
  const next = ref<string>()
  const timeline = ref<Timeline>()
  const forecast = ref<Forecast>()
  const failure = ref<Failure>()
  const loaded = ref(false)
  let latest = 0 // answers to older questions are dropped
  let timer: ReturnType<typeof setTimeout> | undefined

  function asked() {
    return {
      ...(filters.q && { q: filters.q }),
      ...(filters.kind && { kind: filters.kind }),
      ...(filters.state && { state: filters.state }),
      ...(filters.from && { from: filters.from }),
      ...(filters.until && { until: filters.until }),
    }
  }
  async function list(cursor?: string) {
    const question = latest
    const answer = await result(
      api.GET('/api/v1/expiry', { params: { query: { ...asked(), limit: pageSize, ...(cursor && { cursor }) } } }),
    )
    if (question !== latest) return
    failure.value = answer.ok ? undefined : answer.failure
    if (!answer.ok) return
    const page = answer.value.items ?? []
    items.value = cursor ? [...items.value, ...page] : page
    counts.value = answer.value.states
    total.value = answer.value.total
    next.value = answer.value.next
    loaded.value = true
  }
  async function draw() {
    const question = latest
    const answer = await result(api.GET('/api/v1/expiry/timeline', { params: { query: asked() } }))
    if (question === latest && answer.ok) timeline.value = answer.value
  }
  async function predict() {
    const question = latest
    const answer = await result(
      api.GET('/api/v1/expiry/forecast', {
        params: { query: { ...(filters.q && { q: filters.q }), minutes: filters.minutes } },
      }),
    )
    if (question === latest && answer.ok) forecast.value = answer.value
  }
  async function load() {
    latest++
    await Promise.all([list(), draw(), predict()])
  }
  function more() {
    return list(next.value)
  }

  watch(filters, () => {
    clearTimeout(timer)
    timer = setTimeout(() => {
      const query = { ...asked(), ...(filters.minutes !== 30 && { minutes: String(filters.minutes) }) }
      router.replace({ query })
      load()
    }, typingPause)
  })
  onScopeDispose(() => {
    clearTimeout(timer)
    latest++
  })
  return { filters, items, counts, total, next, timeline, forecast, failure, loaded, load, more }
}
