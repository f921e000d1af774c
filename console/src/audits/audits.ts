import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { api, result } from '../api/client'
import type { Audit, Failure } from '../api/client'

const finals: readonly Audit['state'][] = ['finished', 'cancelled', 'failed']

/** The audit that is under way, or the one that ended last. One stream of events serves every page. */
export const useAudits = defineStore('audits', () => {
  const current = ref<Audit>()
  const failure = ref<Failure>()
  const ended = ref(0) // counts audits that ended while watched; pages load again when it grows
  const running = computed(() => current.value !== undefined && !finals.includes(current.value.state))
  // What a schedule has begun may be spread over hours, and keeps nobody from an audit of their own.
  const waited = computed(() => running.value && !current.value?.schedule)
  let stream: EventSource | undefined

  function follow(audit: Audit) {
    stream?.close()
    current.value = audit
    if (!running.value) return
    const events = new EventSource(`/api/v1/audits/${audit.id}/events`)
    stream = events
    events.addEventListener('audit', (event) => {
      current.value = JSON.parse(event.data as string) as Audit
      if (running.value) return
      events.close()
      ended.value++
    })
    // Without a final event the browser connects again by itself: a restarted service goes on with the audit.
  }

  async function load() {
    const answer = await result(api.GET('/api/v1/audits', { params: { query: { limit: 5 } } }))
    if (!answer.ok) {
      failure.value = answer.failure
      return
    }
    failure.value = undefined
    const items = answer.value.items ?? []
    const latest = items.find((audit) => !audit.schedule && !finals.includes(audit.state)) ?? items[0]
    if (!latest) return
    const before = current.value?.id
    follow(latest)
    if (before !== undefined && before !== latest.id && !running.value) ended.value++ // a schedule's, meanwhile
  }

  async function start(endpointIds?: number[]) {
    const answer = await result(
      api.POST('/api/v1/audits', { body: endpointIds ? { endpoint_ids: endpointIds } : {} }),
    )
    failure.value = answer.ok ? undefined : answer.failure
    if (answer.ok) follow(answer.value)
  }

  async function cancel() {
    if (!current.value) return
    const answer = await result(
      api.POST('/api/v1/audits/{id}/cancel', {
        params: { path: { id: current.value.id } },
        headers: { 'Content-Type': 'application/json' },
      }),
    )
    // A conflict says that it ended meanwhile, which the stream tells as well.
    failure.value = answer.ok || answer.failure.status === 409 ? undefined : answer.failure
  }

  return { current, running, waited, failure, ended, load, start, cancel }
})
