/// <reference lib="webworker" />
// Runs the core beside the page, so that the page stays usable. After its own
// parts are loaded it asks the network for nothing.
import type { Request } from './sorter'

interface GoRuntime {
  importObject: WebAssembly.Imports
  run(instance: WebAssembly.Instance): Promise<void>
}
declare const self: DedicatedWorkerGlobalScope & {
  Go: new () => GoRuntime
} & Record<`nurvik${'Sort' | 'Compare' | 'Pack'}`, (files: Request['files'], passwords: string[], wish: string) => string>

const calls = { sort: 'nurvikSort', compare: 'nurvikCompare', pack: 'nurvikPack' } as const

const ready = (async () => {
  const runtime = '/workbench/wasm_exec.js'
  await import(/* @vite-ignore */ runtime)
  const go = new self.Go()
  const { instance } = await WebAssembly.instantiateStreaming(fetch('/workbench/nurvik.wasm'), go.importObject)
  void go.run(instance)
})()

ready.then(
  () => self.postMessage({ ready: true }),
  (error: unknown) => self.postMessage({ broken: String(error) }),
)

self.addEventListener('message', async (event: MessageEvent<Request>) => {
  await ready
  const { id, call, files, passwords, wish } = event.data
  self.postMessage({ id, answer: self[calls[call]](files, passwords, JSON.stringify(wish ?? null)) })
})
