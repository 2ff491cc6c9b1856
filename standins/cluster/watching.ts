import type { IncomingMessage, ServerResponse } from 'node:http'
import { badRequest, Failure } from './failure'
import type { Objects, WatchEvent } from './objects'
import type { ObjectRequest } from './requests'
import { apiVersionOf, tableOf, type KubeObject } from './resources'
import { selected } from './selectors'

const BOOKMARK_MS = 5000

/** One page of a list. What comes after it is asked for with `continue`. */
export function listed(objects: Objects, { type, namespace, query }: ObjectRequest) {
  const fits = selected(query)
  const key = ({ metadata }: KubeObject) => `${metadata.namespace ?? ''}/${metadata.name}`
  const all = objects
    .list(type, namespace)
    .filter(fits)
    .sort((a, b) => (key(a) < key(b) ? -1 : 1))
  const token = query.get('continue')
  const [version, after] = token ? readToken(token) : [objects.resourceVersion, '']
  const rest = all.filter((object) => key(object) > after)
  const limit = Number(query.get('limit') ?? 0) || rest.length
  const items = rest.slice(0, limit)
  const more = rest.length > items.length
  return {
    kind: `${type.kind}List`,
    apiVersion: apiVersionOf(type),
    metadata: {
      resourceVersion: version,
      ...(more
        ? {
            continue: Buffer.from(JSON.stringify([version, key(items.at(-1)!)])).toString('base64url'),
            remainingItemCount: rest.length - items.length,
          }
        : {}),
    },
    // Items carry the version that was asked for; all versions of a type show the same objects.
    items: items.map((object) => ({ ...object, apiVersion: apiVersionOf(type) })),
  }
}

function readToken(token: string): [string, string] {
  try {
    const [version, after] = JSON.parse(Buffer.from(token, 'base64url').toString())
    return [String(version), String(after)]
  } catch {
    throw badRequest('continue key is not valid')
  }
}

/** Tells every change after a version as it happens, one JSON object a line, until the client goes. */
export function watched(objects: Objects, asked: ObjectRequest, request: IncomingMessage, response: ServerResponse): void {
  const { type, namespace, name, query } = asked
  const fits = selected(query)
  const isSeen = (object: KubeObject) =>
    (namespace === undefined || object.metadata.namespace === namespace) && (!name || object.metadata.name === name) && fits(object)
  response.writeHead(200, { 'content-type': 'application/json' })
  response.flushHeaders()
  const write = (kind: string, object: unknown) => response.write(`${JSON.stringify({ type: kind, object })}\n`)
  const tell = ({ type: what, object, before }: WatchEvent) => {
    const [is, was] = [isSeen(object), before !== undefined && isSeen(before)]
    // An object that begins or ends to fit a selector comes or goes, whatever happened to it.
    if (what !== 'DELETED' && is) write(was ? 'MODIFIED' : 'ADDED', object)
    else if (was) write('DELETED', object)
  }
  const since = query.get('resourceVersion') ?? ''
  try {
    if (since === '' || since === '0') for (const object of objects.list(type, namespace)) if (isSeen(object)) write('ADDED', object)
    if (since !== '' && since !== '0') objects.since(tableOf(type), Number(since)).forEach(tell)
  } catch (error) {
    if (!(error instanceof Failure)) throw error
    write('ERROR', error.status)
    response.end()
    return
  }
  const onChange = (event: WatchEvent) => event.table === tableOf(type) && tell(event)
  objects.on('change', onChange)
  const bookmarks = query.get('allowWatchBookmarks') === 'true'
  const timer = setInterval(() => {
    if (bookmarks)
      write('BOOKMARK', { kind: type.kind, apiVersion: apiVersionOf(type), metadata: { resourceVersion: objects.resourceVersion } })
  }, BOOKMARK_MS)
  const seconds = Number(query.get('timeoutSeconds') ?? 0)
  const end = seconds > 0 ? setTimeout(() => response.end(), seconds * 1000) : undefined
  const stop = () => {
    objects.off('change', onChange)
    clearInterval(timer)
    clearTimeout(end)
  }
  request.once('close', stop)
  response.once('close', stop)
}
