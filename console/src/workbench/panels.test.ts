import { flushPromises, mount } from '@vue/test-utils'
import { describe, expect, it, vi } from 'vitest'
import { stubs } from '../testing/serve'
import ComparePanel from './ComparePanel.vue'
import PackPanel from './PackPanel.vue'
import type { Compared, Input, Packed, Sorter } from './sorter'

const inputs: Input[] = ['old.crt', 'new.crt', 'tides.csr'].map((name) => ({ name, bytes: new Uint8Array() }))
const global = { stubs }
const sorter = (more: Partial<Sorter>) => more as Sorter

describe('ComparePanel', () => {
  const compared: Compared = {
    first: 'new.crt', second: 'tides.csr', sentence: 'The same key, two names fewer.', matters: true, rows: [],
    differences: [], unknown: ['tides.key: it is locked'],
    pairs: [
      {
        first: { label: 'tides' }, second: { label: 'tides' },
        rows: [{ field: 'names', first: ['a', 'b'], second: ['a'], same: false }, { field: 'CA', first: ['no'],
          second: ['no'], same: true }],
        differences: [{ aspect: 'names', text: 'No longer covered: b.', matters: true }, { aspect: 'issue',
          text: 'New dates.', matters: false }],
      },
    ],
  }
  it('offers the last two, and shows them side by side', async () => {
    const compare = vi.fn(async () => compared)
    const panel = mount(ComparePanel, { props: { inputs, passwords: ['x'], sorter: sorter({ compare }) }, global })
    await panel.get('form').trigger('submit')
    await flushPromises()
    expect(compare).toHaveBeenCalledWith(inputs[1], inputs[2], ['x'])
    const text = panel.get('[data-test="compared"]').text()
    for (const part of ['The same key, two names fewer.', 'names ≠', '■ No longer covered: b.', '· New dates.',
      'Not compared: tides.key: it is locked']) expect(text).toContain(part)
    expect(panel.findAll('.differs')).toHaveLength(1)
  })
  it('says why nothing could be compared', async () => {
    const compare = vi.fn(async () => Promise.reject(new Error('old.crt cannot be compared')))
    const panel = mount(ComparePanel, { props: { inputs, passwords: [], sorter: sorter({ compare }) }, global })
    await panel.get('[data-test="first"]').setValue(0)
    await panel.get('form').trigger('submit')
    await flushPromises()
    expect(panel.get('[role="alert"]').text()).toBe('old.crt cannot be compared')
  })
})

describe('PackPanel', () => {
  const packed: Packed = {
    files: [{ name: 'tides.p12', what: 'keystore (PKCS#12)', data: btoa('store') }],
    lines: ['ssl_certificate /etc/ssl/tides.pem;'],
    notes: ['Whether clients trust the root cannot be seen here.'],
  }
  const servers = ['nginx', 'Tomcat']
  it('asks for a server or a shape, for keystores with a password', async () => {
    const pack = vi.fn(async () => packed)
    const panel = mount(PackPanel, { props: { inputs, passwords: [], servers, sorter: sorter({ pack }) }, global })
    expect(panel.find('[data-test="pack-password"]').exists()).toBe(false)
    await panel.get('form').trigger('submit')
    await panel.get('[data-test="pack-for"]').setValue('shape:keystore')
    await panel.get('[data-test="pack-password"]').setValue('Lodestar 7')
    await panel.get('[data-test="pack-name"]').setValue(' tides.example ')
    await panel.get('form').trigger('submit')
    await flushPromises()
    const plain = { name: '', server: 'nginx', shape: '', java: false, password: '' }
    expect(pack).toHaveBeenNthCalledWith(1, inputs, [], plain)
    expect(pack).toHaveBeenNthCalledWith(2, inputs, [], { ...plain, name: 'tides.example', server: '',
      shape: 'keystore',
      password: 'Lodestar 7' })
    const text = panel.get('[data-test="packed"]').text()
    for (const part of ['tides.p12', 'keystore (PKCS#12)', ...packed.lines, ...packed.notes])
      expect(text).toContain(part)
  })
  it('says why nothing was made', async () => {
    const pack = vi.fn(async () => ({ files: [], lines: [], notes: [], refused: 'the key is missing' }))
    const panel = mount(PackPanel, { props: { inputs, passwords: [], servers, sorter: sorter({ pack }) }, global })
    await panel.get('form').trigger('submit')
    await flushPromises()
    expect(panel.get('[data-test="packed"]').text()).toBe('Nothing was made: the key is missing')
  })
})
