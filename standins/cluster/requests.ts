import type { IncomingMessage } from 'node:http'
import { parse } from 'yaml'
import { badRequest, Failure, unknownPath } from './failure'
import type { ResourceType } from './resources'

/** A request for objects, as its address tells it. */
export interface ObjectRequest {
  type: ResourceType
  namespace: string | undefined
  name: string | undefined
  /** `status`, `scale`, `log`, `exec`, `finalize`. */
  part: string | undefined
  query: URLSearchParams
}

/** Reads `/api/v1/…` and `/apis/{group}/{version}/…`. @throws Failure 404 for what is not served */
export function readAddress(types: ResourceType[], url: URL): ObjectRequest {
  const words = url.pathname.split('/').filter(Boolean).map(decodeURIComponent)
  const isCore = words[0] === 'api'
  const [group, version] = isCore ? ['', words[1]] : [words[1], words[2]]
  let rest = words.slice(isCore ? 2 : 3)
  let namespace: string | undefined
  if (rest[0] === 'namespaces' && rest.length > 2 && !['status', 'finalize'].includes(rest[2]!)) {
    namespace = rest[1]
    rest = rest.slice(2)
  }
  const [plural, name, part] = rest
  const type = types.find((type) => type.group === group && type.version === version && type.plural === plural)
  if (!type || rest.length > 3 || (part && !type.subresources.includes(part))) throw unknownPath()
  if (namespace !== undefined && !type.namespaced) throw unknownPath()
  return { type, namespace, name, part, query: url.searchParams }
}

const LARGEST = 8 * 1024 * 1024

export async function readBody(request: IncomingMessage): Promise<unknown> {
  const parts: Buffer[] = []
  let size = 0
  for await (const part of request) {
    size += (part as Buffer).length
    if (size > LARGEST) throw new Failure(413, 'RequestEntityTooLarge', 'the request is too large')
    parts.push(part as Buffer)
  }
  const text = Buffer.concat(parts).toString()
  if (text === '') return undefined
  const type = request.headers['content-type'] ?? 'application/json'
  if (type.includes('protobuf')) throw new Failure(415, 'UnsupportedMediaType', 'only JSON and YAML are spoken here')
  try {
    return type.includes('yaml') ? parse(text) : JSON.parse(text)
  } catch (error) {
    throw badRequest(`the body can't be read: ${(error as Error).message}`)
  }
}

const VERBS: Record<string, string> = { GET: 'get', POST: 'create', PUT: 'update', PATCH: 'patch', DELETE: 'delete' }

/** The verb that the right to do something is asked by. */
export function verbOf(method: string, { name, part, query }: ObjectRequest): string {
  if (part === 'exec') return 'create'
  if (method === 'GET' && !name) return query.get('watch') === 'true' || query.get('watch') === '1' ? 'watch' : 'list'
  if (method === 'DELETE' && !name) return 'deletecollection'
  return VERBS[method] ?? 'get'
}
