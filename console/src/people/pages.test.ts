import { flushPromises, mount } from '@vue/test-utils'
import { createPinia } from 'pinia'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { createMemoryHistory, createRouter } from 'vue-router'
import { unknown } from '../api/client'
import { serve } from '../testing/serve'
import ActivityPage from './ActivityPage.vue'
import { changesOf } from './changes'
import PasskeyList from './PasskeyList.vue'
import PeoplePage from './PeoplePage.vue'
import { signWith } from './passkeys'
import SignInPage from './SignInPage.vue'
import { useSession } from './session'
import TokenList from './TokenList.vue'

const links = { 'router-link': { template: '<a><slot /></a>' } }
const master = { name: 'harbour-master', role: 'administrator', through: 'session' } as const
const pilot = { id: 2, name: 'pilot', role: 'auditor', disabled: false, passkeys: 0,
  created_at: '2026-11-20T10:00:00Z' }
afterEach(() => vi.unstubAllGlobals())

function signedIn(role: 'viewer' | 'auditor' | 'administrator' = 'administrator') {
  const pinia = createPinia()
  useSession(pinia).who = { ...master, role }
  return { plugins: [pinia], stubs: links }
}

describe('useSession', () => {
  it('knows who is signed in, and what a role includes', async () => {
    serve({ 'GET /api/v1/session': { ...master, role: 'auditor' } })
    const session = useSession(createPinia())
    expect(session.may('viewer')).toBe(false)
    await session.load()
    expect([session.out, session.may('viewer'), session.may('auditor'), session.may('administrator')]).toEqual([
      false,
      true,
      true,
      false,
    ])
  })
  it('says that nobody is, and whether the first account is to be made', async () => {
    serve({ 'GET /api/v1/session': { status: 401 }, 'GET /api/v1/set-up': { needed: true } })
    const session = useSession(createPinia())
    await session.load()
    expect([session.out, session.setUpNeeded]).toEqual([true, true])
  })
  it('leaves the question open when the service fails', async () => {
    serve({ 'GET /api/v1/session': { status: 503 } })
    const session = useSession(createPinia())
    await session.load()
    expect(session.out).toBe(false)
  })
  it('signs in, out, and tells why it did not work', async () => {
    const asked = serve({ 'POST /api/v1/session': { session: master }, 'DELETE /api/v1/session': {} })
    const session = useSession(createPinia())
    expect(await session.signIn('harbour-master', 'lantern')).toBeUndefined()
    expect(session.who?.name).toBe('harbour-master')
    expect(await session.signOut()).toBeUndefined()
    expect([session.who, asked.at(-1)?.method]).toEqual([undefined, 'DELETE'])
    serve({ 'POST /api/v1/session': { status: 429, detail: 'try again in 4 seconds' } })
    expect((await session.signIn('harbour-master', 'lantern'))?.words).toBe('try again in 4 seconds')
  })
})

describe('SignInPage', () => {
  it('offers the OpenID provider where there is one, and comes back to the page that was asked for', async () => {
    serve({
      'GET /api/v1/session': { status: 401 },
      'GET /api/v1/set-up': { needed: false, openid: 'Harbour directory' },
    })
    const routes = [{ path: '/sign-in', component: SignInPage }]
    const router = createRouter({ history: createMemoryHistory(), routes })
    await router.push('/sign-in?to=/policies?x=1')
    const global = { plugins: [...signedIn().plugins, router] }
    const page = mount(SignInPage, { global })
    expect(page.find('[data-test="openid"]').exists()).toBe(false)
    const session = useSession()
    session.forget()
    await session.load()
    await flushPromises()
    const link = page.find('[data-test="openid"]')
    expect(link.text()).toBe('Sign in with Harbour directory')
    expect(link.attributes('href')).toBe('/api/v1/session/openid?to=%2Fpolicies%3Fx%3D1')
  })
})

describe('passkeys', () => {
  const asked = { try: 'x', options: {}, address: location.origin }
  const kind = { parseRequestOptionsFromJSON: (options: unknown) => options }
  const browser = (get: () => unknown) => {
    vi.stubGlobal('PublicKeyCredential', kind)
    vi.stubGlobal('navigator', { credentials: { get } })
  }
  it('are asked for after the password', async () => {
    browser(async () => ({ toJSON: () => ({ id: 'key' }) }))
    const called = serve({ 'POST /api/v1/session': { passkey: asked }, 'POST /api/v1/session/passkey': master })
    const session = useSession(createPinia())
    expect(await session.signIn('harbour-master', 'lantern')).toBeUndefined()
    expect(session.who?.name).toBe('harbour-master')
    expect(JSON.parse(called.at(-1)?.body ?? '')).toEqual({ try: 'x', answer: { id: 'key' } })
  })
  it.each([
    ['cancelled', new DOMException('', 'NotAllowedError'), 'was cancelled, took too long, or is not in this device'],
    ['of this device already', new DOMException('', 'InvalidStateError'), 'holds a passkey of yours already'],
    ['anything else', new Error('no idea'), 'could not use the passkey: Error: no idea'],
  ])('say why it did not work: %s', async (_name, error, words) => {
    browser(() => Promise.reject(error))
    const answer = await signWith(asked)
    expect(answer.ok ? '' : answer.failure.words).toContain(words)
  })
  it('say where browsers offer them, and when one cannot', async () => {
    const elsewhere = await signWith({ ...asked, address: 'https://nurvik.tarnholm.example' })
    expect(elsewhere.ok ? '' : elsewhere.failure.words).toContain('only at https://nurvik.tarnholm.example.')
    vi.stubGlobal('PublicKeyCredential', undefined)
    const old = await signWith(asked)
    expect(old.ok ? '' : old.failure.words).toContain('This browser cannot use passkeys')
  })
  it.each([
    ['nowhere', '', 'has no host name over HTTPS'],
    ['elsewhere', 'https://nurvik.tarnholm.example', 'https://nurvik.tarnholm.example/account'],
  ])('have no form %s', async (where, address, words) => {
    serve({ 'GET /api/v1/passkeys': { items: [], address } })
    const list = mount(PasskeyList, { global: signedIn() })
    await flushPromises()
    expect(list.get(`[data-test=passkey-${where}]`).text()).toContain(words)
    expect(list.find('form').exists()).toBe(false)
  })
})

describe('PeoplePage', () => {
  it('adds somebody, and tells why somebody cannot be locked out', async () => {
    const asked = serve({
      'GET /api/v1/people': [pilot],
      'POST /api/v1/people': pilot,
      'PATCH /api/v1/people/2': { status: 409, detail: 'the only administrator' },
    })
    const page = mount(PeoplePage, { global: signedIn() })
    await flushPromises()
    expect(page.get('[data-test=person]').text()).toContain('pilot')
    await page.get('input[data-test=person-name]').setValue(' tide-clerk ')
    await page.get('input[data-test=person-password]').setValue('lantern over the quay')
    await page.get('form').trigger('submit')
    await flushPromises()
    const added = asked.find((a) => a.method === 'POST')
    expect(JSON.parse(added?.body ?? '')).toEqual({
      name: 'tide-clerk',
      role: 'viewer',
      password: 'lantern over the quay',
    })
    await page.get('[data-test=toggle]').trigger('click')
    await flushPromises()
    expect(JSON.parse(asked.find((a) => a.method === 'PATCH')?.body ?? '')).toEqual({ disabled: true })
    expect(page.get('[role=alert]').text()).toContain('the only administrator')
  })
})

describe('TokenList', () => {
  const token = { id: 9, name: 'collect on quay', owner: 'pilot', role: 'collect', prefix: 'nurvik_abc',
    created_at: '' }
  it('shows a new token once', async () => {
    serve({ 'GET /api/v1/tokens': [token], 'POST /api/v1/tokens': { token, secret: 'nurvik_abcdef' } })
    const list = mount(TokenList, { global: signedIn() })
    await flushPromises()
    expect(list.get('[data-test=token]').text()).toContain('collect only')
    await list.get('input[data-test=token-name]').setValue('collect on quay')
    await list.get('form').trigger('submit')
    await flushPromises()
    expect(list.get('[data-test=secret]').text()).toBe('nurvik_abcdef')
  })
})

describe('ActivityPage', () => {
  it('tells who did what, and what was refused', async () => {
    const entry = { id: 3, at: '2026-11-20T10:00:00Z', who: 'pilot', through: 'session', address: '192.0.2.7' }
    serve({
      'GET /api/v1/activity': {
        items: [
          { ...entry, operation: 'change-person', object: 'tide-clerk', status: 200, before: pilot, after: { ...pilot,
            role: 'viewer' } },
          { ...entry, id: 2, operation: 'sign-in', status: 401 },
          { ...entry, id: 1, operation: 'add-endpoint', status: 0 },
        ],
        next: 'n',
      },
    })
    const page = mount(ActivityPage, { global: signedIn() })
    await flushPromises()
    const [first, second, third] = page.findAll('[data-test=activity]').map((row) => row.text())
    expect(first).toContain('role: auditor → viewer')
    expect(second).toContain('sign-in (refused, 401)')
    expect(third).toContain('add-endpoint (not finished)')
    expect(page.find('[data-test=more]').exists()).toBe(true)
  })
  it.each([
    ['new', undefined, { name: 'quay', days: 3 }, ['name: quay', 'days: 3']],
    ['gone', { name: 'quay' }, null, ['name was quay']],
    ['a time', { ends: '2026-11-20T10:00:00.5Z' }, { ends: '2026-11-21T10:00:00Z' },
      ['ends: 2026-11-20 10:00 UTC → 2026-11-21 10:00 UTC']],
    ['the same', pilot, { ...pilot }, []],
  ])('tells what is %s', (_name, before, after, words) => {
    expect(changesOf(before, after)).toEqual(words)
  })
})

it('says when the service does not know the caller any more', async () => {
  const called = vi.fn()
  unknown.caller = called
  serve({ 'GET /api/v1/people': { status: 401, detail: 'sign in first' } })
  mount(PeoplePage, { global: signedIn() })
  await flushPromises()
  expect(called).toHaveBeenCalled()
  unknown.caller = () => {}
})
