import { describe, expect, it } from 'vitest'
import { questionOf, questionWords } from './question'

describe('questionWords', () => {
  it('says everything that was asked', () => {
    const words = questionWords({
      at: '2027-03-15T00:00:00Z',
      policy: 'strict',
      distrust: ['5f0c5f0c5f0c5f0c'],
      selected: 2,
    })
    expect(words).toBe('as of 2027-03-15 00:00 UTC, by the policy strict, without 5f0c5f0c5f0c, of 2 endpoints')
  })
  it('says nothing of what was not', () => {
    expect(questionWords({ at: '2027-03-15T00:00:00Z', distrust: [] })).toBe('as of 2027-03-15 00:00 UTC')
  })
})

describe('questionOf', () => {
  it('is nothing where nothing would be otherwise', () => {
    expect(questionOf({ at: '', policy: '', distrust: ' ' })).toBeUndefined()
  })
  it('takes what the form holds', () => {
    expect(questionOf({ at: '2027-03-15', policy: 'strict', distrust: 'aa, bb\ncc' })).toEqual({
      at: '2027-03-15T00:00:00Z',
      policy: 'strict',
      distrust: ['aa', 'bb', 'cc'],
    })
    expect(questionOf({ at: '2027-03-15', policy: '', distrust: '' })).toEqual({ at: '2027-03-15T00:00:00Z' })
  })
})
