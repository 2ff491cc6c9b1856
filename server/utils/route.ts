import { createError, defineEventHandler, getQuery, getRouterParam, readBody, setResponseStatus, type H3Event } from 'h3'
import * as v from 'valibot'
import { errorRecord, VesselError } from '../../core/errors'
import type { Engine } from '../../engine/engine'
import { useEngine } from './engine'
import { PointId } from './schemas'

/** A route: hands the engine to its work, and turns whatever it throws into an answer with a code. */
export function route<T>(work: (engine: Engine, event: H3Event) => Promise<T>) {
  return defineEventHandler(async (event): Promise<T> => {
    try {
      return await work(await useEngine(), event)
    } catch (error) {
      throw answerOf(error)
    }
  })
}

function answerOf(error: unknown) {
  const known = error instanceof VesselError
  if (!known) console.error(error)
  const record = errorRecord(error, 'Nothing was changed by this request as far as is known.')
  return createError({ statusCode: known ? error.status : 500, statusMessage: record.code, message: record.what, data: record })
}

type Schema = v.BaseSchema<unknown, unknown, v.BaseIssue<unknown>>

function parsed<S extends Schema>(schema: S, input: unknown): v.InferOutput<S> {
  const result = v.safeParse(schema, input)
  if (result.success) return result.output
  const [issue] = result.issues
  const where = v.getDotPath(issue)
  throw new VesselError('bad_request', {
    what: `${where ? `${where}: ` : ''}${issue.message}`,
    touched: 'Nothing was changed.',
    next: 'Mend the request, then send it again.',
    status: 400,
  })
}

export async function bodyOf<S extends Schema>(event: H3Event, schema: S): Promise<v.InferOutput<S>> {
  const body: unknown = await readBody(event).catch(() => undefined)
  return parsed(schema, body ?? {})
}

export const queryOf = <S extends Schema>(event: H3Event, schema: S): v.InferOutput<S> => parsed(schema, getQuery(event))

const Uuid = v.pipe(v.string(), v.uuid('This is not an id.'))

/** The id in the address; what is no id is answered as what does not exist. */
export function idOf(event: H3Event): string {
  return parsed(Uuid, getRouterParam(event, 'id'))
}

/** The id of a point in the address, or the reference of an instant. */
export function pointOf(event: H3Event): string {
  return parsed(PointId, decodeURIComponent(getRouterParam(event, 'id') ?? ''))
}

export function slugOf(event: H3Event): string {
  return decodeURIComponent(getRouterParam(event, 'slug') ?? '')
}

export function created<T>(event: H3Event, value: T): T {
  setResponseStatus(event, 201)
  return value
}
