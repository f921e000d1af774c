import { flushPromises, mount } from '@vue/test-utils'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { serve, stubs } from '../testing/serve'
import BulkForm from './BulkForm.vue'
import type { Query } from './use-endpoints'

const slot = { template: '<div><slot /></div>' }
const select = {
  props: ['modelValue'],
  emits: ['update:modelValue'],
  template: '<select :value="modelValue" @change="$emit(\'update:modelValue\', $event.target.value)"><slot /></select>',
}
const option = { props: ['value', 'label'], template: '<option :value="value">{{ label }}</option>' }
const all = { ...stubs, 'el-dialog': slot, 'el-form-item': slot, 'el-select': select, 'el-option': option,
  'el-form': { template: '<form><slot /></form>' } }

const crane = { id: 1, before: { endpoint: 'cranes.tarnholm.example:443' } }
const would = { matched: 3, changed: 2, tag: 'a1', items: [crane] }
const shown = async (of: Pick<Query, 'search' | 'verdict'> & { owner?: string }, answer: unknown = would) => {
  const asked = serve({ 'GET /api/v1/policies': [{ name: 'strict' }], 'POST /api/v1/estate/changes': answer })
  const form = mount(BulkForm, { props: { of: { owner: '', ...of } }, global: { stubs: all } })
  await flushPromises()
  const sent = () => asked.filter((a) => a.method === 'POST').map((a) => JSON.parse(a.body) as unknown)
  const look = async () => {
    await form.get('form').trigger('submit')
    await flushPromises()
  }
  return { form, sent, look }
}
afterEach(() => vi.unstubAllGlobals())

describe('BulkForm', () => {
  it('shows what would change, and changes just that', async () => {
    const { form, sent, look } = await shown({ search: 'crane', owner: 'crane crew', verdict: 'faulty' })
    expect(form.text()).toContain('the list shows: faulty, crane crew, “crane”')
    await form.get('[data-test=policy]').setValue('strict')
    await form.get('[data-test=label]').setValue('watch=a=b')
    await form.get('[data-test=set-owner]').setValue(' night crew ')
    await look()
    expect(form.get('[data-test=preview]').text()).toBe('2 of 3 matching endpoints would be changed.')
    expect(form.text()).toContain('cranes.tarnholm.example:443')
    await form.get('[data-test=change]').trigger('click')
    await flushPromises()
    const change = {
      filter: { q: 'crane', owner: 'crane crew', verdict: 'faulty' },
      set: { policy: 'strict', owner: 'night crew', labels: { watch: 'a=b' } },
    }
    expect(sent()).toEqual([{ ...change, preview: true }, { ...change, tag: 'a1' }])
    expect(form.emitted('done')).toHaveLength(1)
  })
  it.each([
    ['the whole estate', '', { all: true }, 'All endpoints of the estate'],
    ['a label', 'crew=north', { label: 'crew=north' }, 'with this label'],
  ])('is about %s', async (_, label, of, words) => {
    const { form, sent, look } = await shown({ search: '', verdict: '' })
    await form.get('[data-test=of-label]').setValue(label)
    await form.get('[data-test=label]').setValue('quay=')
    expect(form.text()).toContain(words)
    await look()
    expect(sent()).toEqual([{ filter: of, set: { labels: { quay: '' } }, preview: true }])
  })
  it.each([
    ['harbour, outside', ['harbour', 'outside']],
    ['-', []],
  ])('sets the vantages to %s', async (text, vantages) => {
    const { form, sent, look } = await shown({ search: '', verdict: '' })
    await form.get('[data-test=vantages]').setValue(text)
    await look()
    expect(sent()).toEqual([{ filter: { all: true }, set: { vantages }, preview: true }])
  })
  it('looks again when something else is asked, and says what is refused', async () => {
    const { form, look } = await shown({ search: '', verdict: '' })
    await form.get('[data-test=label]').setValue('quay=')
    await look()
    expect(form.find('[data-test=change]').exists()).toBe(true)
    await form.get('[data-test=label]').setValue('quay=north')
    expect(form.find('[data-test=change]').exists()).toBe(false)
    serve({ 'POST /api/v1/estate/changes': { status: 412, detail: 'somebody else has changed this' } })
    await look()
    expect(form.get('[role=alert]').text()).toContain('somebody else')
  })
})
