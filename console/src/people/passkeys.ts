import { t } from '../words/t'
import type { Challenge, Result } from '../api/client'

/** Has the browser make a new passkey, and returns its answer for the service. */
export function make(asked: Challenge): Promise<Result<unknown>> {
  return answer(asked, (kind) =>
    navigator.credentials.create({
      publicKey: kind.parseCreationOptionsFromJSON(asked.options as PublicKeyCredentialCreationOptionsJSON),
    }),
  )
}

/** Has the browser sign with one of the passkeys that the service knows, and returns its answer. */
export function signWith(asked: Challenge): Promise<Result<unknown>> {
  return answer(asked, (kind) =>
    navigator.credentials.get({
      publicKey: kind.parseRequestOptionsFromJSON(asked.options as PublicKeyCredentialRequestOptionsJSON),
    }),
  )
}

async function answer(
  asked: Challenge,
  call: (kind: typeof PublicKeyCredential) => Promise<Credential | null>,
): Promise<Result<unknown>> {
  // Elsewhere browsers refuse without saying where it would work, or know nothing of passkeys at all.
  if (asked.address !== globalThis.location.origin) return failed(t('passkey.elsewhere', { address: asked.address }))
  const kind = globalThis.PublicKeyCredential as typeof PublicKeyCredential | undefined
  if (!kind || !('parseRequestOptionsFromJSON' in kind)) return failed(t('passkey.cannot'))
  try {
    const credential = (await call(kind)) as PublicKeyCredential | null
    return credential ? { ok: true, value: credential.toJSON() } : failed(t('passkey.cancelled'))
  } catch (error) {
    return failed(reason(error))
  }
}

function reason(error: unknown): string {
  const name = (error as { name?: unknown } | null)?.name
  if (name === 'NotAllowedError' || name === 'AbortError') return t('passkey.cancelled')
  if (name === 'InvalidStateError') return t('passkey.there')
  return t('passkey.failed', { reason: String(error) })
}

function failed(words: string): Result<unknown> {
  return { ok: false, failure: { status: 0, words, details: [] } }
}
