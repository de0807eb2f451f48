import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

const client = createClient<paths>({ baseUrl: '' })

export type Schemas = components['schemas']

// Refusal is an answer of the registry that is no success, or no answer at all.
export class Refusal extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly request: string,
  ) {
    super(message)
  }
}

interface Answer<T> {
  data?: T
  error?: { detail?: string }
  response: Response
}

// take returns the data of an answer, or throws what the registry said.
export async function take<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await asked
  } catch {
    throw new Refusal(0, 'The registry does not answer.', '')
  }
  if (answer.data !== undefined) return answer.data
  const said = answer.error?.detail ?? `The registry answers ${answer.response.status}.`
  throw new Refusal(answer.response.status, said, answer.response.headers.get('X-Request-Id') ?? '')
}

export { client }
