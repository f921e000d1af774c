import type { Endpoint, EndpointSettings } from '../api/client'

/** What stands in the form of an endpoint. */
export interface Texts {
  endpoint: string
  names: string
  visitAt: string
  serverName: string
  httpPort: number | undefined
  authenticated: boolean
  policy: string
  trust: string
  audiences: string
  vantages: string
  schedule: string
  owner: string
  labels: string
  notes: string
}

/** Names of trust stores may have spaces. */
const byCommas = (text: string) => text.split(',').map((name) => name.trim()).filter(Boolean)
const several = (list: string[] | null | undefined) => list?.join(', ') ?? ''
const apart = (text: string) => text.split(/[\s,;]+/).filter(Boolean)

/** The form of an endpoint, or of a new one. */
export function textsOf(endpoint: Partial<Endpoint>): Texts {
  return {
    endpoint: endpoint.endpoint ?? '',
    names: several(endpoint.names),
    visitAt: several(endpoint.visit_at),
    serverName: endpoint.server_name ?? '',
    httpPort: endpoint.http_port || undefined,
    authenticated: endpoint.authenticated ?? false,
    policy: endpoint.policy ?? '',
    trust: several(endpoint.trust),
    audiences: several(endpoint.audiences),
    vantages: several(endpoint.vantages),
    schedule: endpoint.schedule ?? '',
    owner: endpoint.owner ?? '',
    labels: Object.entries(endpoint.labels ?? {}).map(([key, value]) => `${key}=${value}`).join('\n'),
    notes: endpoint.notes ?? '',
  }
}

/** The settings that a form says, without those that say nothing. What is wrong with them the service tells. */
export function settingsOf(form: Texts): EndpointSettings {
  const lists = { names: apart(form.names), visit_at: apart(form.visitAt), trust: byCommas(form.trust),
    audiences: byCommas(form.audiences), vantages: apart(form.vantages) }
  const texts = { server_name: form.serverName.trim(), policy: form.policy, schedule: form.schedule,
    owner: form.owner.trim(), notes: form.notes.trim() ? form.notes : '' }
  const labels = form.labels.split('\n').map((line) => line.trim()).filter(Boolean).map((line) => {
    const [key = '', ...value] = line.split('=')
    return [key.trim(), value.join('=').trim()] as const
  })
  return {
    endpoint: form.endpoint.trim(),
    ...Object.fromEntries(Object.entries(lists).filter(([, list]) => list.length)),
    ...Object.fromEntries(Object.entries(texts).filter(([, text]) => text)),
    ...(form.httpPort && { http_port: form.httpPort }),
    ...(form.authenticated && { authenticated: true }),
    ...(labels.length && { labels: Object.fromEntries(labels) }),
  }
}
