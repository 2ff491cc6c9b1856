import { createError, defineEventHandler, getQuery, getRouterParam, setHeader, setResponseStatus, type H3Event } from 'h3'
import * as v from 'valibot'
import { errorRecord, VesselError } from '../../core/errors'
import { isAway } from '../../engine/catalog/connect'
import type { Engine } from '../../engine/engine'
import { useEngine } from './engine'
import { PointId } from './schemas'

/** A route: hands the engine to its work, and turns whatever it throws into an answer with a code. */
export function route<T>(work: (engine: Engine, event: H3Event) => Promise<T>) {
  return defineEventHandler(async (event): Promise<T> => {
    try {
      return await work(await useEngine(), event)
    } catch (error) {
      if (isAway(error)) setHeader(event, 'retry-after', 5)
      throw answerOf(isAway(error) ? catalogAway(error) : error)
    }
  })
}

const catalogAway = (cause: unknown) =>
  new VesselError('catalog_away', {
    what: 'The catalog does not answer.',
    touched: 'Nothing was changed by this request as far as is known.',
    next: 'Runs and logs go on where they can. Try again when the catalog’s server is there.',
    status: 503,
    cause,
  })

function answerOf(error: unknown) {
  const known = error instanceof VesselError
  if (!known) console.error(error)
  const record = errorRecord(error, 'Nothing was changed by this request as far as is known.')
  return createError({ statusCode: known ? error.status : 500, statusMessage: record.code, message: record.what, data: record })
}

type Schema = v.BaseSchema<unknown, unknown, v.BaseIssue<unknown>>

function parsed<S extends Schema>(schema: S, input: unknown): v.InferOutput<S> {
  const result = v.safeParse(schema, input)
  if (result.success) {
    if (isUnkept(result.output)) throw badRequest('A text holds a zero byte, or half of a character.')
    return result.output
  }
  const [issue] = result.issues
  const where = v.getDotPath(issue)
  if (issue.type === 'strict_object' && issue.expected === 'never') throw badRequest(`${where ?? 'A field'}: nobody knows this field.`)
  throw badRequest(`${where ? `${where}: ` : ''}${issue.message}`)
}

const badRequest = (what: string) =>
  new VesselError('bad_request', { what, touched: 'Nothing was changed.', next: 'Mend the request, then send it again.', status: 400 })

/** Whether any value or name in it is a text that neither PostgreSQL nor a cluster can keep. */
function isUnkept(input: unknown): boolean {
  if (typeof input === 'string') return /\0|\p{Surrogate}/u.test(input)
  if (typeof input !== 'object' || input === null) return false
  return Object.entries(input).some(([name, value]) => isUnkept(name) || isUnkept(value))
}

export async function bodyOf<S extends Schema>(event: H3Event, schema: S): Promise<v.InferOutput<S>> {
  const text = await textOf(event)
  return parsed(schema, text.trim() === '' ? {} : jsonOf(text))
}

/** The largest request is a definition with authorities and a kubeconfig. */
const BODY_BYTES = 4 * 1024 * 1024

async function textOf(event: H3Event): Promise<string> {
  const parts: Buffer[] = []
  let bytes = 0
  for await (const part of event.node.req as AsyncIterable<Buffer>) {
    bytes += part.length
    // What is too much is read and let go, so that whoever sends it gets to read the answer; as far as that makes sense.
    if (bytes <= BODY_BYTES) parts.push(part)
    else if (bytes > BODY_BYTES * 16) break
  }
  if (bytes > BODY_BYTES) throw tooLarge()
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(Buffer.concat(parts))
  } catch {
    throw badRequest('The body is no text in UTF-8.')
  }
}

function jsonOf(text: string): unknown {
  let value: unknown
  try {
    value = JSON.parse(text)
  } catch {
    throw badRequest('The body can’t be read as JSON.')
  }
  if (typeof value !== 'object' || value === null || Array.isArray(value)) throw badRequest('The body is no JSON object.')
  if (isDeep(value)) throw badRequest(`Something in the body is nested more than ${LEVELS} times.`)
  return value
}

/** What goes into things level by level, here and in packages, has room for so many. */
const LEVELS = 100

function isDeep(value: object): boolean {
  let level: object[] = [value]
  for (let depth = 0; level.length > 0; depth++) {
    if (depth > LEVELS) return true
    level = level.flatMap((layer) => Object.values(layer).filter((inner): inner is object => typeof inner === 'object' && inner !== null))
  }
  return false
}

const tooLarge = () =>
  new VesselError('too_large', {
    what: `The request is larger than ${BODY_BYTES / 1024 / 1024} MiB.`,
    touched: 'Nothing was changed.',
    next: 'Send less at once.',
    status: 413,
  })

export const queryOf = <S extends Schema>(event: H3Event, schema: S): v.InferOutput<S> => parsed(schema, getQuery(event))

const Uuid = v.pipe(v.string(), v.uuid('This is not an id.'))

/** The id in the address; what is no id is answered as what does not exist. */
export function idOf(event: H3Event): string {
  return parsed(Uuid, getRouterParam(event, 'id'))
}

/** The id of a point in the address, or the reference of a moment. */
export const pointOf = (event: H3Event): string => parsed(PointId, decoded(event, 'id'))

/** The short name of what was chosen, in the address. */
export const choiceNameOf = (event: H3Event): string =>
  parsed(v.pipe(v.string(), v.regex(/^[\w-]{1,40}$/, 'This is no name of a choice.')), decoded(event, 'id'))

export const slugOf = (event: H3Event): string => parsed(v.string(), decoded(event, 'slug'))

function decoded(event: H3Event, name: string): string {
  try {
    return decodeURIComponent(getRouterParam(event, name) ?? '')
  } catch {
    throw badRequest('The address is not encoded as addresses are.')
  }
}

export function created<T>(event: H3Event, value: T): T {
  setResponseStatus(event, 201)
  return value
}
