import type { Summary } from '../api/client'
import type { components } from '../api/schema'
import type { CardFinding } from '../findings/severities'

/** One thing in a file. The names are those of the core. */
export interface Entry extends Summary {
  kind: string
  what: string
  line?: number
  offset: number
  form?: string
  field?: string
  container?: string
  alias?: string
  remarks?: string[]
  fields?: { name: string; values: string[] }[]
  anomalies?: { offset: number; field: string; text: string; source: string }[]
}

export interface WorkbenchFile {
  path: string
  verdict: components['schemas']['JudgeJudgement']['verdict']
  entries: Entry[]
  findings: CardFinding[]
  locked: boolean
}

export interface Member extends Summary {
  kind: string
  path: string
  line?: number
  alias?: string
  valid?: boolean
  why?: string
}

export interface Group {
  spki: string
  key: string
  keys: Member[]
  certificates: Member[]
  requests: Member[]
}

export interface Part {
  name: string
  what: 'leaf' | 'bundle' | 'key' | 'request'
  of: string
  spki: string
  pem: string
  note?: string
}

export interface Sorted {
  files: WorkbenchFile[]
  groups: Group[]
  unpaired: Member[]
  successions: { names: string[]; steps: { certificate: Member; paths: string[] }[] }[]
  parts: Part[]
  unread: { name: string; reason: string }[]
  /** For which files can be packed. */
  servers: string[]
}

export interface Input {
  name: string
  bytes: Uint8Array
}

/** What two things do not have in common, as the core tells it. */
export interface Compared {
  first: string
  second: string
  sentence: string
  matters: boolean
  pairs: { first: { label: string }; second: { label: string }; rows: ComparedRow[]; differences: Difference[] }[]
  rows: ComparedRow[]
  differences: Difference[]
  unknown: string[]
}
export interface ComparedRow {
  field: string
  first: string[] | null
  second: string[] | null
  same: boolean
}
export interface Difference {
  aspect: string
  text: string
  matters: boolean
}

/** What is to be packed: for a server, or in a shape. */
export interface Wish {
  name: string
  server: string
  shape: string
  java: boolean
  password: string
}
export interface Packed {
  files: { name: string; what: string; data: string }[]
  lines: string[]
  notes: string[]
  refused?: string
}

export interface Request {
  id: number
  call: 'sort' | 'compare' | 'pack'
  wish?: Wish
  files: Input[]
  passwords: string[]
}

type Message = { ready: true } | { broken: string } | { id: number; answer: string }

/** The core in a worker of its own. */
export interface Sorter {
  ready: Promise<void>
  sort(files: Input[], passwords: string[]): Promise<Sorted>
  compare(first: Input, second: Input, passwords: string[]): Promise<Compared>
  pack(files: Input[], passwords: string[], wish: Wish): Promise<Packed>
  stop(): void
}

/** Starts the worker; its parts are loaded from the service once. */
export function startSorter(worker: Pick<Worker, 'postMessage' | 'terminate' | 'addEventListener'>): Sorter {
  let count = 0
  const waiting = new Map<number, { resolve: (value: never) => void; reject: (error: Error) => void }>()
  const ready = new Promise<void>((resolve, reject) => {
    worker.addEventListener('message', (event) => {
      const message = (event as MessageEvent<Message>).data
      if ('ready' in message) resolve()
      else if ('broken' in message) reject(new Error(message.broken))
      else {
        const answer = JSON.parse(message.answer) as object | { failure: string }
        const asked = waiting.get(message.id)
        waiting.delete(message.id)
        if ('failure' in answer) asked?.reject(new Error(answer.failure))
        else asked?.resolve(answer as never)
      }
    })
  })
  function ask<T>(request: Omit<Request, 'id'>): Promise<T> {
    const id = ++count
    return new Promise((resolve, reject) => {
      waiting.set(id, { resolve, reject })
      worker.postMessage({ id, ...request } satisfies Request)
    })
  }
  return {
    ready,
    sort: (files, passwords) => ask({ call: 'sort', files, passwords }),
    compare: (first, second, passwords) => ask({ call: 'compare', files: [first, second], passwords }),
    pack: (files, passwords, wish) => ask({ call: 'pack', files, passwords, wish }),
    stop: () => worker.terminate(),
  }
}
