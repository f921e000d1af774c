import { afterEach, describe, expect, it, vi } from 'vitest'
import { serve } from '../testing/serve'
import { api, result } from './client'

afterEach(() => vi.unstubAllGlobals())

describe('result', () => {
  it('has the value of an answer', async () => {
    serve({ 'GET /api/v1/holdings': [{ name: 'quay' }] })
    expect(await result(api.GET('/api/v1/holdings'))).toEqual({ ok: true, value: [{ name: 'quay' }] })
  })
  it('has the words and details of a refusal', async () => {
    serve({ 'GET /api/v1/policies': { status: 422, detail: 'not taken', errors: [{ message: 'line 2' }, {}] } })
    expect(await result(api.GET('/api/v1/policies'))).toEqual({
      ok: false,
      failure: { status: 422, words: 'not taken', details: ['line 2'] },
    })
  })
  it('is a failure too when the service does not answer', async () => {
    vi.stubGlobal('fetch', () => Promise.reject(new TypeError('refused')))
    const answer = await result(api.GET('/api/v1/policies'))
    expect(answer).toMatchObject({ ok: false, failure: { status: 0, details: [] } })
    expect(answer.ok || answer.failure.words).toContain('Is nurvikd running?')
  })
})
