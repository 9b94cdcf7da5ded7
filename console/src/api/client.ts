// The typed client of the service. Everything goes to the page's own origin.
import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Amount = Schemas['Amount']
export type Dispatch = Schemas['DispatchAnswer']
export type Voice = Schemas['VoiceAnswer']
export type Engine = Schemas['EngineAnswer']
export type Check = Schemas['CheckAnswer']
export type Credential = Schemas['CredentialAnswer']
export type Transcript = Schemas['TranscriptAnswer']
export type Problem = Schemas['Problem']

// Calls of this client read JSON alone; for other media types there is `fetchRaw`.
export const api = createClient<paths, 'application/json'>({ baseUrl: '/' })

/** A problem of the service, or of the way to it. */
export class CallError extends Error {
  readonly problem: Partial<Problem>

  constructor(problem: Partial<Problem>) {
    super(problem.detail || problem.title || 'The service does not answer.')
    this.problem = problem
  }
}

/** The data of an answer, or an error that says what to do. */
export async function ask<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer
  try {
    answer = await call
  } catch {
    throw new CallError({ title: 'The service does not answer.', help: 'Look whether it still runs, then try again.' })
  }
  if (answer.response.status === 401) signedOut()
  if (answer.data === undefined) throw new CallError((answer.error as Partial<Problem>) ?? { title: answer.response.statusText })
  return answer.data
}

/** The same for a call that answers without a body. */
export async function gone(call: Promise<{ error?: unknown; response: Response }>): Promise<void> {
  await ask(call.then((answer) => ({ ...answer, data: answer.response.ok ? true : undefined })))
}

let signedOut = () => {}

/** What to do once nobody is signed in any more. */
export function whenSignedOut(action: () => void) {
  signedOut = action
}

/** A call whose answer is not JSON. */
export async function fetchRaw(path: string, init: RequestInit): Promise<Response> {
  let response
  try {
    response = await fetch(path, init)
  } catch {
    throw new CallError({ title: 'The service does not answer.', help: 'Look whether it still runs, then try again.' })
  }
  if (response.status === 401) signedOut()
  if (!response.ok) throw new CallError(await response.json().catch(() => ({ title: response.statusText })))
  return response
}
