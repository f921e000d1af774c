import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { serve } from '../testing/serve'
import EndpointForm from './EndpointForm.vue'
import { settingsOf, textsOf } from './settings'
import type { Endpoint } from '../api/client'

const policies = { 'GET /api/v1/policies': [{ name: 'internal' }], 'GET /api/v1/schedules': [{ name: 'nightly' }] }
const full = {
  id: 7, tag: 'T1', endpoint: 'tides.tarnholm.example:443', names: ['tides.tarnholm.example', 'tide.tarnholm.example'],
  visit_at: ['192.0.2.7', '[2001:db8::7]:8443'], server_name: 'sni.tarnholm.example', http_port: 8080,
  authenticated: true, policy: 'internal', trust: ['outer ring', 'inner'],
  audiences: ['partners'], vantages: ['outside'],
  schedule: 'nightly',
  owner: 'tide crew', labels: { quay: 'north', formula: 'a=b' }, notes: 'Renewed by hand.\nAsk the clerk.',
} as unknown as Endpoint

describe('the settings of an endpoint', () => {
  it('come out of the form as they went in', () => {
    const { id, tag, ...settings } = full
    expect([id, tag]).toEqual([7, 'T1'])
    expect(settingsOf(textsOf(full))).toEqual(settings)
  })
  it('say nothing where nothing is set', () => {
    expect(settingsOf({ ...textsOf({}), endpoint: ' pilots.tarnholm.example ', notes: ' \n', owner: ' ' }))
      .toEqual({ endpoint: 'pilots.tarnholm.example' })
  })
})

describe('EndpointForm', () => {
  afterEach(() => vi.unstubAllGlobals())
  const shown = async (answers: Record<string, unknown>, of?: Endpoint) => {
    const asked = serve({ ...policies, ...answers })
    const form = mount(EndpointForm, { props: { of }, attachTo: document.body, global: {
      stubs: { 'el-dialog': { template: '<div><slot /></div>' } } } })
    await flushPromises()
    return { form, sent: () => asked.filter((a) => a.method !== 'GET') }
  }
  it('changes what was changed and keeps the rest', async () => {
    const { form, sent } = await shown({ 'PUT /api/v1/endpoints/7': full }, full)
    await form.get('input[data-test=form-owner]').setValue('ferry crew')
    await form.get('textarea[data-test=notes]').setValue('')
    await form.get('form').trigger('submit')
    await flushPromises()
    const body = JSON.parse(sent()[0]?.body ?? '') as Record<string, unknown>
    expect(body).toMatchObject({ owner: 'ferry crew', labels: full.labels, trust: full.trust })
    expect(body).not.toHaveProperty('notes')
    expect(form.emitted('saved')).toHaveLength(1)
  })
  it('adds one, and says what the service refused', async () => {
    const errors = [{ message: 'there is no trust store "shore"', location: 'body.trust[0]' }]
    const { form, sent } = await shown({ 'POST /api/v1/endpoints': { status: 422, detail: 'cannot be taken', errors } })
    expect(form.get('[data-test=save]').attributes('disabled')).toBeDefined()
    await form.get('input[data-test=endpoint]').setValue('pilots.tarnholm.example')
    await form.get('input[data-test=form-trust]').setValue('shore')
    await form.get('form').trigger('submit')
    await flushPromises()
    expect(JSON.parse(sent()[0]?.body ?? '')).toEqual({ endpoint: 'pilots.tarnholm.example', trust: ['shore'] })
    expect(form.get('[role=alert]').text()).toContain('there is no trust store "shore"')
    expect(form.emitted('saved')).toBeUndefined()
  })
})
