import { defineStore } from 'pinia'
import { computed, ref } from 'vue'
import { api, asJSON, result } from '../api/client'
import { t } from '../words/t'
import { signWith } from './passkeys'
import type { Failure, Session } from '../api/client'

const ranks = ['viewer', 'auditor', 'administrator']

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const who = ref<Session>()
  const asked = ref(false)
  const setUpNeeded = ref(false)
  /** What the OpenID provider is called that people may sign in at; '' for none. */
  const openID = ref('')
  const out = computed(() => asked.value && !who.value)

  /** Reports whether whoever is signed in may do what the role may. */
  function may(role: Session['role']): boolean {
    return who.value !== undefined && ranks.indexOf(who.value.role) >= ranks.indexOf(role)
  }

  /** Asks once who is signed in. A service that does not answer leaves the question open. */
  async function load() {
    if (asked.value) return
    const answer = await result(api.GET('/api/v1/session'))
    if (!answer.ok && answer.failure.status !== 401) return
    who.value = answer.ok ? answer.value : undefined
    if (!answer.ok) {
      const state = await result(api.GET('/api/v1/set-up'))
      setUpNeeded.value = state.ok && state.value.needed
      openID.value = (state.ok && state.value.openid) || ''
    }
    asked.value = true
  }

  async function signIn(name: string, password: string): Promise<Failure | undefined> {
    const answer = await result(api.POST('/api/v1/session', { body: { name, password } }))
    if (!answer.ok) return answer.failure
    const { session, passkey } = answer.value
    if (session) return enter({ ok: true, value: session })
    if (!passkey) return { status: 0, words: t('failure.network'), details: [] }
    const signed = await signWith(passkey)
    if (!signed.ok) return signed.failure
    return enter(
      await result(api.POST('/api/v1/session/passkey', { body: { try: passkey.try, answer: signed.value } })),
    )
  }

  async function setUp(code: string, name: string, password: string): Promise<Failure | undefined> {
    const answer = await result(api.POST('/api/v1/set-up', { body: { code, name, password } }))
    return enter(answer)
  }

  function enter(answer: { ok: true; value: Session } | { ok: false; failure: Failure }): Failure | undefined {
    if (!answer.ok) return answer.failure
    who.value = answer.value
    asked.value = true
    setUpNeeded.value = false
    return undefined
  }

  async function signOut(everywhere = false): Promise<Failure | undefined> {
    const answer = await result(
      everywhere ? api.DELETE('/api/v1/sessions', asJSON) : api.DELETE('/api/v1/session', asJSON),
    )
    if (!answer.ok) return answer.failure
    forget()
    return undefined
  }

  /** The service does not know the session any more. */
  function forget() {
    who.value = undefined
    asked.value = false
  }

  return { who, out, setUpNeeded, openID, may, load, signIn, setUp, signOut, forget }
})
