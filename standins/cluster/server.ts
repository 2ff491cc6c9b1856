import type { IncomingMessage, ServerResponse } from 'node:http'
import { createServer, type Server } from 'node:https'
import { mayDo, type User } from './access'
import { Answers } from './answers'
import type { Cluster } from './cluster'
import { coreVersions, description, groupList, oneGroup, resourceList } from './discovery'
import { execute } from './exec'
import { Failure, forbidden, unknownPath } from './failure'
import { readAddress, readBody, verbOf, type ObjectRequest } from './requests'
import { listed, watched } from './watching'

/** Who a token stands for. Tokens can be let expire while the stand-in runs. */
export type Tokens = Map<string, User>

export function serve(cluster: Cluster, tokens: Tokens, identity: { cert: string; key: string }): Server {
  const answers = new Answers(cluster)

  function userOf(request: IncomingMessage): User {
    const token = /^Bearer (.+)$/.exec(request.headers.authorization ?? '')?.[1]
    const user = token === undefined ? undefined : tokens.get(token)
    if (!user || user.until < Date.now()) throw new Failure(401, 'Unauthorized', 'Unauthorized')
    return user
  }

  function ensureAllowed(user: User, method: string, asked: ObjectRequest): void {
    const { type, namespace, name, part } = asked
    if (type.transient) return
    const verb = verbOf(method, asked)
    const resource = part ? `${type.plural}/${part}` : type.plural
    // A namespace is in itself, as far as roles go.
    const home = type.kind === 'Namespace' ? name : namespace
    if (mayDo(cluster.objects, user, { verb, group: type.group, resource, namespace: home, name })) return
    throw forbidden(
      type,
      name ?? '',
      `User "${user.name}" cannot ${verb} resource "${resource}" in API group "${type.group}"${namespace ? ` in the namespace "${namespace}"` : ' at the cluster scope'}`,
    )
  }

  function document(path: string): unknown {
    const types = cluster.types()
    const words = path.split('/').filter(Boolean)
    if (path === '/version')
      return { major: '1', minor: cluster.options.version.split('.')[1], gitVersion: cluster.options.version, platform: 'stand-in' }
    if (path === '/api') return coreVersions
    if (path === '/apis') return groupList(types)
    if (words[0] === 'api' && words.length === 2) return resourceList(types, '', words[1]!)
    if (words[0] === 'apis' && words.length === 2) return oneGroup(types, words[1]!)
    if (words[0] === 'apis' && words.length === 3) return resourceList(types, words[1]!, words[2]!)
    return undefined
  }

  async function answer(request: IncomingMessage, response: ServerResponse): Promise<void> {
    const url = new URL(request.url!, 'http://cluster')
    const method = request.method ?? 'GET'
    if (['/healthz', '/livez', '/readyz'].includes(url.pathname)) return void response.end('ok')
    const user = userOf(request)
    if (url.pathname === '/openapi/v2') {
      response.writeHead(200, { 'content-type': 'application/octet-stream' })
      return void response.end(description(cluster.options.name))
    }
    const found = document(url.pathname)
    if (found) return send(response, 200, found)
    if (!/^\/apis?\//.test(url.pathname)) throw unknownPath()
    const asked = readAddress(cluster.types(), url)
    ensureAllowed(user, method, asked)
    const { type, namespace, name, part, query } = asked
    if (method === 'GET') {
      if (verbOf(method, asked) === 'watch') return watched(cluster.objects, asked, request, response)
      if (part === 'log') return answers.log(asked, response)
      if (part === 'scale') return send(response, 200, answers.scaleOf(asked))
      return send(response, 200, name ? cluster.objects.get(type, namespace, name) : listed(cluster.objects, asked))
    }
    const body = await readBody(request)
    const contentType = (request.headers['content-type'] ?? '').split(';')[0]!
    const manager = query.get('fieldManager') ?? (request.headers['user-agent'] ?? 'unknown').split('/')[0]!
    const { code, body: result } = (() => {
      if (method === 'POST') return answers.create(asked, body, manager, user)
      if (method === 'PUT') return answers.replace(asked, body)
      if (method === 'PATCH') return answers.patch(asked, body, contentType, manager, user)
      if (method === 'DELETE') return name ? answers.remove(asked, body) : answers.removeAll(asked, body)
      throw new Failure(405, 'MethodNotAllowed', `${method} is not allowed`)
    })()
    send(response, code, result)
  }

  const server = createServer(identity, (request, response) => {
    answer(request, response).catch((error: unknown) => {
      if (error instanceof Failure) return send(response, error.code, error.status)
      console.error(`${request.method} ${request.url}:`, error)
      send(response, 500, new Failure(500, 'InternalError', (error as Error).message).status)
    })
  })
  server.on('upgrade', (request, socket, head) => {
    try {
      const asked = readAddress(cluster.types(), new URL(request.url!, 'http://cluster'))
      ensureAllowed(userOf(request), 'POST', asked)
      if (asked.part !== 'exec') throw unknownPath()
      execute(cluster, asked, request, socket, head)
    } catch (error) {
      const failure = error instanceof Failure ? error : new Failure(500, 'InternalError', (error as Error).message)
      const text = JSON.stringify(failure.status)
      socket.end(
        `HTTP/1.1 ${failure.code} ${failure.reason}\r\ncontent-type: application/json\r\ncontent-length: ${Buffer.byteLength(text)}\r\nconnection: close\r\n\r\n${text}`,
      )
    }
  })
  return server
}

function send(response: ServerResponse, code: number, body: unknown): void {
  if (response.headersSent) return void response.end()
  response.writeHead(code, { 'content-type': 'application/json' })
  response.end(JSON.stringify(body))
}
