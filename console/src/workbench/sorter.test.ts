import { describe, expect, it } from 'vitest'
import { startSorter } from './sorter'

type Listener = (event: { data: unknown }) => void

/** A worker of which the test plays the other side. */
function fake() {
  let hear: Listener = () => undefined
  const sent: { id: number; files: { name: string }[] }[] = []
  return {
    sent,
    say: (data: unknown) => hear({ data }),
    worker: {
      postMessage: (m: never) => sent.push(m),
      terminate: () => undefined,
      addEventListener: (_: string, l: unknown) => (hear = l as Listener),
    } as never,
  }
}

describe('sorter', () => {
  it('gives each answer to the one who asked, in whatever order', async () => {
    const f = fake()
    const s = startSorter(f.worker)
    f.say({ ready: true })
    await s.ready
    const first = s.sort([{ name: 'a', bytes: new Uint8Array() }], [])
    const second = s.sort([{ name: 'b', bytes: new Uint8Array() }], [])
    f.say({ id: f.sent[1]?.id, answer: '{"files":[{"path":"b"}]}' })
    f.say({ id: f.sent[0]?.id, answer: '{"files":[{"path":"a"}]}' })
    expect((await first).files[0]?.path).toBe('a')
    expect((await second).files[0]?.path).toBe('b')
  })

  it('tells failures', async () => {
    const f = fake()
    const s = startSorter(f.worker)
    const asked = s.sort([], [])
    f.say({ id: 1, answer: '{"failure":"no policy"}' })
    await expect(asked).rejects.toThrow('no policy')
    f.say({ broken: 'no WebAssembly' })
    await expect(s.ready).rejects.toThrow('no WebAssembly')
  })
})
