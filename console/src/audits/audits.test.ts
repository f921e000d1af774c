import { createPinia, setActivePinia } from 'pinia'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { serve } from '../testing/serve'
import { useAudits } from './audits'

/** A stream of events that the test speaks into. */
class Stream {
  static all: Stream[] = []
  closed = false
  private hear?: (event: { data: string }) => void
  constructor(readonly url: string) {
    Stream.all.push(this)
  }
  addEventListener(_: string, hear: (event: { data: string }) => void) {
    this.hear = hear
  }
  say(audit: unknown) {
    this.hear?.({ data: JSON.stringify(audit) })
  }
  close() {
    this.closed = true
  }
}
const audit = (state: string) => ({ id: 7, state, visits: 4, done: 1 })

beforeEach(() => {
  setActivePinia(createPinia())
  Stream.all = []
  vi.stubGlobal('EventSource', Stream)
})
afterEach(() => vi.unstubAllGlobals())

describe('useAudits', () => {
  it('follows what somebody waits for rather than what a schedule has begun', async () => {
    const scheduled = { ...audit('visiting'), id: 9, schedule: 'nightly' }
    serve({ 'GET /api/v1/audits': { items: [scheduled, audit('visiting')] } })
    vi.stubGlobal('EventSource', Stream)
    const audits = useAudits()
    await audits.load()
    expect([audits.current?.id, audits.waited]).toEqual([7, true])
    serve({ 'GET /api/v1/audits': { items: [scheduled, audit('finished')] } })
    vi.stubGlobal('EventSource', Stream)
    await audits.load()
    expect([audits.current?.id, audits.running, audits.waited]).toEqual([9, true, false])
    serve({ 'GET /api/v1/audits': { items: [{ ...scheduled, state: 'finished' }, audit('finished')] } })
    await audits.load()
    serve({ 'GET /api/v1/audits': { items: [{ ...scheduled, id: 10, state: 'finished' }] } })
    const before = audits.ended
    await audits.load()
    expect(audits.ended).toBe(before + 1)
  })
  it('follows an audit that it starts, to its end', async () => {
    const asked = serve({ 'POST /api/v1/audits': audit('planning') })
    vi.stubGlobal('EventSource', Stream)
    const audits = useAudits()
    await audits.start([3])
    expect(JSON.parse(asked[0]?.body ?? '')).toEqual({ endpoint_ids: [3] })
    expect(audits.running).toBe(true)
    const [stream] = Stream.all
    expect(stream?.url).toBe('/api/v1/audits/7/events')
    stream?.say({ ...audit('visiting'), done: 3 })
    expect(audits.current?.done).toBe(3)
    expect(audits.ended).toBe(0)
    stream?.say(audit('finished'))
    expect([audits.running, audits.ended, stream?.closed]).toEqual([false, 1, true])
  })
  it('takes up the audit that is under way, and leaves one that has ended alone', async () => {
    serve({ 'GET /api/v1/audits': { items: [audit('finished')] } })
    const audits = useAudits()
    await audits.load()
    expect(audits.current?.state).toBe('finished')
    expect(Stream.all).toHaveLength(0)
    serve({ 'GET /api/v1/audits': { items: [audit('judging')] } })
    await audits.load()
    expect(Stream.all).toHaveLength(1)
  })
  it.each([
    ['that failed', 503, true],
    ['of one that ended meanwhile', 409, false],
  ])('tells of a cancellation %s', async (_, status, told) => {
    serve({
      'POST /api/v1/audits': audit('visiting'),
      'POST /api/v1/audits/7/cancel': { status, detail: 'no' },
    })
    const audits = useAudits()
    await audits.start()
    await audits.cancel()
    expect(audits.failure !== undefined).toBe(told)
  })
})
