import createClient from 'openapi-fetch'
import { t } from '../words/t'
import type { components, paths } from './schema'

export type EndpointSettings = components['schemas']['EndpointSettings']
export type Endpoint = components['schemas']['Endpoint']
export type Examination = components['schemas']['Examination']
export type Audit = components['schemas']['Audit']
export type Finding = components['schemas']['Finding']
export type Holding = components['schemas']['Holding']
export type HoldingView = components['schemas']['HoldingView']
export type HoldingFile = components['schemas']['HoldingFile']
export type ChainLink = components['schemas']['ChainLink']
export type Chain = components['schemas']['JudgeChain']
export type PathView = components['schemas']['JudgePathView']
export type Description = components['schemas']['PkiDescription']
export type DNSRecords = components['schemas']['FactsDNS']
export type TLSARecord = components['schemas']['FactsTLSA']
/** What a certificate, request or key is known by, in every list. */
export type Summary = Pick<
  Description,
  'sha256' | 'spki' | 'label' | 'names' | 'issuer' | 'serial' | 'not_before' | 'not_after' | 'ca' | 'key'
>
export type Observation = components['schemas']['FactsObservation']
export type Shown = components['schemas']['JudgeShown']
export type Policy = components['schemas']['Policy']
export type PolicyText = components['schemas']['PolicyText']
export type WhatIf = components['schemas']['WhatIf']
export type WhatIfView = components['schemas']['WhatIfView']
export type Due = components['schemas']['Due']
export type DueDay = components['schemas']['DueDay']
export type DuePlace = components['schemas']['DuePlace']
export type Timeline = components['schemas']['Timeline']
export type Forecast = components['schemas']['LifetimeForecast']
export type Deployment = components['schemas']['JudgeDeployment']
export type Coverage = components['schemas']['Coverage']
export type Edit = components['schemas']['JudgeEdit']
export type Challenge = components['schemas']['Challenge']
export type Passkey = components['schemas']['Passkey']
export type Passkeys = components['schemas']['Passkeys']
export type Session = components['schemas']['Session']
export type Person = components['schemas']['Person']
export type PersonChange = components['schemas']['PersonChange']
export type Token = components['schemas']['Token']
export type Cause = components['schemas']['Cause']
export type HistoryEntry = components['schemas']['HistoryEntry']
export type Waiver = components['schemas']['Waiver']
export type BulkChange = components['schemas']['BulkChange']
export type BulkResult = components['schemas']['BulkResult']
export type Worker = components['schemas']['Worker']
export type Proposal = components['schemas']['ProposalProposal']
export type NetworkSearch = components['schemas']['Search']
export type NetworkSearches = components['schemas']['Searches']
export type ProposalAnswer = components['schemas']['ProposalAnswer']
export type Schedule = components['schemas']['Schedule']
export type ScheduleStart = components['schemas']['ScheduleStart']
export type Activity = components['schemas']['Activity']
export type Verdict = Endpoint['verdict']

export const api = createClient<paths>({
  baseUrl: globalThis.location?.origin ?? '',
  // Looked up at each call, so that tests can put another in its place.
  fetch: (request: Request) => globalThis.fetch(request),
})

/** Goes with writes that have no body: the service takes no other writes than JSON. */
export const asJSON = { headers: { 'Content-Type': 'application/json' } }

/** Keeps a change from undoing one that somebody else has made since the record was read. */
export const ifMatch = (tag: string | undefined) => (tag ? { 'If-Match': `"${tag}"` } : {})

/** Is called when the service does not know who is calling, such as when a session has ended. */
export const unknown = { caller: () => {} }

/** What went wrong, in words for people. Expected failures are values, never thrown. */
export interface Failure {
  status: number
  words: string
  /** What is wrong in particular, such as each line of a policy. */
  details: string[]
}

export type Result<T> = { ok: true; value: T } | { ok: false; failure: Failure }

interface Answer<T> {
  data?: T
  error?: { detail?: string; title?: string; errors?: { message?: string }[] | null } | undefined
  response: Response
}

/** Turns a call of the API into a result; a service that does not answer is a failure too. */
export async function result<T>(call: Promise<Answer<T>>): Promise<Result<T>> {
  try {
    const { data, error, response } = await call
    if (response.ok) return { ok: true, value: data as T }
    if (response.status === 401) unknown.caller()
    return {
      ok: false,
      failure: {
        status: response.status,
        words: error?.detail ?? error?.title ?? response.statusText,
        details: (error?.errors ?? []).flatMap((e) => e.message ?? []),
      },
    }
  } catch {
    return { ok: false, failure: { status: 0, words: t('failure.network'), details: [] } }
  }
}
