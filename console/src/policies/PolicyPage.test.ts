import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, describe, expect, it, vi } from 'vitest'
import PolicyPage from './PolicyPage.vue'

const own = {
  name: 'quay',
  builtin: false,
  version: 3,
  updated_at: '2026-11-20T10:00:00Z',
  endpoints: 2,
  holdings: 0,
  text: 'name: quay\n',
}

/** Answers each request with the next of the list. */
function serve(...answers: { status: number; body: unknown }[]) {
  const fetch = vi.fn(async () => {
    const { status, body } = answers.shift() ?? { status: 500, body: {} }
    return new Response(JSON.stringify(body), {
      status,
      headers: { 'Content-Type': status < 400 ? 'application/json' : 'application/problem+json' },
    })
  })
  vi.stubGlobal('fetch', fetch)
}
const page = () =>
  mount(PolicyPage, {
    props: { name: 'quay' },
    global: { stubs: { 'router-link': true, 'el-button': { template: '<button><slot /></button>' } } },
  })
afterEach(() => vi.unstubAllGlobals())

describe('PolicyPage', () => {
  it('saves a new version', async () => {
    serve({ status: 200, body: own }, { status: 200, body: { ...own, version: 4, text: 'name: quay\n# more\n' } })
    const shown = page()
    await flushPromises()
    await shown.get('textarea').setValue('name: quay\n# more\n')
    await shown.get('form').trigger('submit')
    await flushPromises()
    expect(shown.get('[data-test="saved"]').text()).toContain('version 4')
  })
  it('shows each line that is wrong, and keeps what was written', async () => {
    const problem = {
      status: 422,
      detail: 'some of it cannot be taken; nothing was changed',
      errors: [{ message: 'line 2: the key "suits" is not known' }],
    }
    serve({ status: 200, body: own }, { status: 422, body: problem })
    const shown = page()
    await flushPromises()
    await shown.get('textarea').setValue('name: quay\nsuits: {}\n')
    await shown.get('form').trigger('submit')
    await flushPromises()
    expect(shown.get('[data-test="defects"]').text()).toContain('line 2: the key "suits" is not known')
    expect(shown.get('textarea').element.value).toContain('suits')
  })
  it('leaves built-in policies alone', async () => {
    serve({ status: 200, body: { ...own, builtin: true } })
    const shown = page()
    await flushPromises()
    expect(shown.get('textarea').attributes('readonly')).toBeDefined()
    expect(shown.find('[data-test="save"]').exists()).toBe(false)
  })
  it('says when there is no such policy', async () => {
    serve({ status: 404, body: { detail: 'there is no such record' } })
    const shown = page()
    await flushPromises()
    expect(shown.get('[role="alert"]').text()).toContain('There is no such policy')
  })
})
