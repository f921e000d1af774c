import { vi } from 'vitest'

/** What a page asked the service. */
export interface Asked {
  method: string
  path: string
  query: Record<string, string>
  body: string
}

/**
 * Stands in for the service: answers by method and path, and notes what was asked. What has no answer is not found. An
 * answer with a status is an error; undo it with vi.unstubAllGlobals.
 */
export function serve(answers: Record<string, unknown>): Asked[] {
  const asked: Asked[] = []
  vi.stubGlobal('fetch', async (request: Request) => {
    const url = new URL(request.url)
    const question = {
      method: request.method,
      path: url.pathname,
      query: Object.fromEntries(url.searchParams),
      body: await request.text(),
    }
    asked.push(question)
    const body = answers[`${question.method} ${question.path}`] ?? { status: 404, detail: 'there is no such record' }
    const status = (body as { status?: unknown }).status
    return new Response(JSON.stringify(body), {
      status: typeof status === 'number' ? status : 200,
      headers: { 'Content-Type': 'application/json' },
    })
  })
  return asked
}

/** Plain elements in the place of those of the router and of the library. */
export const stubs = {
  'router-link': { template: '<a><slot /></a>' },
  'el-button': { template: '<button type="button"><slot /></button>' },
  'el-input': {
    props: ['modelValue'],
    emits: ['update:modelValue'],
    template: '<input :value="modelValue" @input="$emit(\'update:modelValue\', $event.target.value)" />',
  },
}
