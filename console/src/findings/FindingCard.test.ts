import { mount } from '@vue/test-utils'
import { describe, expect, it, vi } from 'vitest'
import FindingCard from './FindingCard.vue'
import type { CardFinding } from './severities'

const finding: CardFinding = {
  code: 'proto.obsolete',
  severity: 'risk',
  message: 'TLS 1.2 is accepted, which the policy does not allow.',
  remedy: 'Switch off TLS 1.2 and keep TLS 1.3.',
  edits: [
    { server: 'nginx', line: 'ssl_protocols TLSv1.3;' },
    { server: 'Apache', note: 'put its <VirtualHost> first' },
  ],
  why: 'The version has known weaknesses.',
  reference: 'RFC 8996',
  evidence: {},
}

describe('FindingCard', () => {
  it('shows the lines that came with the finding', () => {
    const lines = mount(FindingCard, { props: { finding } }).get('[data-test="lines"]').text()
    expect(lines).toContain('ssl_protocols TLSv1.3;')
    expect(lines).toContain('put its <VirtualHost> first')
  })
  it('says why and until when a finding is waived', () => {
    const card = mount(FindingCard, {
      props: { finding: { ...finding, waived: { reason: 'the cranes need it', until: '2026-12-31' } } },
    })
    expect(card.get('[data-test="waived"]').text()).toBe('Waived until 2026-12-31: the cranes need it')
    expect(card.classes()).toContain('passed')
  })
  it('copies the missing certificates', async () => {
    const write = vi.fn().mockResolvedValue(undefined)
    vi.stubGlobal('navigator', { clipboard: { writeText: write } })
    const card = mount(FindingCard, { props: { finding: { ...finding, evidence: { missing_pem: ['A', 'B'] } } } })
    await card.get('button').trigger('click')
    expect(write).toHaveBeenCalledWith('AB')
    vi.unstubAllGlobals()
  })
})
