import { request as httpsRequest, Agent, type RequestOptions } from 'node:https'
import { request as httpRequest, type OutgoingHttpHeaders } from 'node:http'
import { KubeConfig } from '@kubernetes/client-node'
import { apiVersionOf } from '../../../core/cluster/versions'
import { VesselError } from '../../../core/errors'
import type { ClusterAccess } from './access'

/** An object as the API tells it; nothing of it is dropped or changed. */
export interface KubeObject {
  apiVersion?: string
  kind?: string
  metadata: {
    name: string
    namespace?: string
    uid?: string
    resourceVersion?: string
    generation?: number
    creationTimestamp?: string
    deletionTimestamp?: string
    labels?: Record<string, string>
    annotations?: Record<string, string>
    finalizers?: string[]
    ownerReferences?: { apiVersion: string; kind: string; name: string; uid: string; controller?: boolean }[]
    [field: string]: unknown
  }
  spec?: Record<string, unknown>
  status?: Record<string, unknown>
  [field: string]: unknown
}

/** One kind of things that a cluster serves. */
export interface ApiResource {
  group: string
  version: string
  kind: string
  plural: string
  namespaced: boolean
  verbs: string[]
}

export interface ApiRequest {
  method?: 'GET' | 'POST' | 'PUT' | 'PATCH' | 'DELETE'
  query?: Record<string, string | number | undefined>
  body?: unknown
  contentType?: string
  signal?: AbortSignal
}

/** What the API answered instead of what was asked for. */
export class ApiFailure extends Error {
  constructor(
    readonly status: number,
    readonly reason: string,
    message: string,
  ) {
    super(message)
  }
}

const PAGE = 500
const ANSWER_WITHIN_MS = 30_000

/** Where a version of a group is served. */
const rootOf = (of: { group: string; version: string }) => `/${of.group === '' ? 'api' : 'apis'}/${apiVersionOf(of)}`

export const resourcePath = (resource: Pick<ApiResource, 'group' | 'version' | 'plural'>, namespace?: string, name?: string) =>
  [
    rootOf(resource),
    namespace === undefined ? '' : `/namespaces/${encodeURIComponent(namespace)}`,
    `/${resource.plural}`,
    name === undefined ? '' : `/${encodeURIComponent(name)}`,
  ].join('')

export const PODS = { group: '', version: 'v1', plural: 'pods' }

/**
 * Speaks to a cluster. The official client knows how to sign in; what it makes of answers is not used, because its
 * types drop the fields that they don't know.
 */
export class ClusterClient {
  readonly config = new KubeConfig()
  private readonly agent: Agent
  private signing: ReturnType<ClusterClient['sign']> | undefined

  constructor(readonly access: ClusterAccess) {
    const { name, settings, secret } = access
    const base64 = (text: string) => Buffer.from(text).toString('base64')
    this.config.loadFromClusterAndUser(
      {
        name,
        server: settings.server,
        skipTLSVerify: settings.unverified,
        ...(settings.authority ? { caData: base64(settings.authority) } : {}),
        ...(settings.serverName ? { tlsServerName: settings.serverName } : {}),
      },
      {
        name: settings.user || 'user',
        ...('token' in secret ? { token: secret.token } : { certData: base64(secret.certificate), keyData: base64(secret.key) }),
      },
    )
    this.agent = new Agent({ keepAlive: true, maxSockets: 8 })
  }

  /** Does work with a client of its own, which is closed afterwards; what goes wrong is told in our words. */
  static async with<T>(access: ClusterAccess, work: (client: ClusterClient) => Promise<T>): Promise<T> {
    const client = new ClusterClient(access)
    try {
      return await work(client)
    } catch (error) {
      throw client.translate(error)
    } finally {
      client.close()
    }
  }

  /** @throws ApiFailure for what the API refuses, VesselError when it can't be reached at all */
  async ask<T>(path: string, asked: ApiRequest = {}): Promise<T> {
    const { method = 'GET', query = {}, body, contentType = 'application/json', signal } = asked
    const url = new URL(path, this.access.settings.server)
    for (const [key, value] of Object.entries(query)) if (value !== undefined) url.searchParams.set(key, String(value))
    const signed = await (this.signing ??= this.sign())
    const secure = url.protocol === 'https:'
    const text = body === undefined ? undefined : JSON.stringify(body)
    const headers = {
      ...signed.headers,
      ...(text === undefined ? {} : { 'content-type': contentType, 'content-length': Buffer.byteLength(text) }),
    }
    const options = { ...signed, method, signal, headers, agent: secure ? this.agent : undefined }
    const answer = await new Promise<{ status: number; text: string }>((resolve, reject) => {
      const request = (secure ? httpsRequest : httpRequest)(url, options, (response) => {
        const parts: Buffer[] = []
        response.on('data', (part: Buffer) => parts.push(part))
        response.on('error', reject)
        response.on('end', () => resolve({ status: response.statusCode ?? 0, text: Buffer.concat(parts).toString() }))
      })
      request.setTimeout(ANSWER_WITHIN_MS, () => request.destroy(Object.assign(new Error('no answer in time'), { code: 'ETIMEDOUT' })))
      request.on('error', reject)
      request.end(text)
    }).catch((error: unknown) => {
      throw this.translate(error)
    })
    return this.read<T>(answer)
  }

  /** What signs every request. Tokens and certificates are as they were given, so they are asked for once. */
  private async sign(): Promise<RequestOptions & { headers: OutgoingHttpHeaders }> {
    const options = { headers: { accept: 'application/json', 'user-agent': 'unbroken-vessel' } }
    await this.config.applyToHTTPSOptions(options)
    return options
  }

  private read<T>({ status, text }: { status: number; text: string }): T {
    let answer: unknown
    try {
      answer = text === '' ? null : JSON.parse(text)
    } catch {
      answer = null
    }
    if (status >= 200 && status < 300 && answer !== null) return answer as T
    const { message, reason } = (answer ?? {}) as { message?: string; reason?: string }
    throw new ApiFailure(status, reason ?? '', message ?? `it answered ${status} with something that is not the Kubernetes API`)
  }

  /** All objects of a kind, page by page. */
  async *list(
    resource: ApiResource,
    namespace?: string,
    query: ApiRequest['query'] = {},
    signal?: AbortSignal,
  ): AsyncGenerator<KubeObject> {
    let next: string | undefined
    do {
      const page: { items: KubeObject[]; metadata: { continue?: string } } = await this.ask(resourcePath(resource, namespace), {
        query: { ...query, limit: PAGE, continue: next },
        signal,
      })
      // Items of a list don't say what they are.
      for (const item of page.items) yield { ...item, apiVersion: apiVersionOf(resource), kind: resource.kind }
      next = page.metadata.continue || undefined
    } while (next)
  }

  /** What the cluster serves, each kind in the version that it prefers. */
  async resources(): Promise<ApiResource[]> {
    const groups = await this.ask<{ groups: { name: string; preferredVersion: { version: string } }[] }>('/apis')
    const versions = [
      { group: '', version: 'v1' },
      ...groups.groups.map(({ name, preferredVersion }) => ({ group: name, version: preferredVersion.version })),
    ]
    return (await Promise.all(versions.map((version) => this.resourcesOf(version)))).flat()
  }

  /** What one version of a group serves. */
  async resourcesOf({ group, version }: { group: string; version: string }): Promise<ApiResource[]> {
    const { resources } = await this.ask<{ resources: { name: string; kind: string; namespaced: boolean; verbs: string[] }[] }>(
      rootOf({ group, version }),
    )
    return resources
      .filter(({ name }) => !name.includes('/'))
      .map(({ name, kind, namespaced, verbs }) => ({ group, version, kind, plural: name, namespaced, verbs }))
  }

  /** Turns what went wrong into an error that says what to do. */
  translate(error: unknown, touched = 'Nothing was changed.'): unknown {
    if (error instanceof VesselError || !(error instanceof Error)) return error
    const where = `${this.access.name} (${this.access.settings.server})`
    const say = (code: string, what: string, next: string) => new VesselError(code, { what, touched, next, cause: error })
    if (error instanceof ApiFailure) {
      if (error.status === 401)
        return say(
          'token_refused',
          `${where} does not accept the token or certificate: it may have run out.`,
          'Give a new one: under Sources, change how it is reached.',
        )
      if (error.status === 403)
        return say('privilege_missing', `${where} refuses: ${error.message}.`, 'Grant what is missing; probing the source prints the role.')
      return say(
        'source_error',
        `${where} answered: ${error.message} (${error.status}${error.reason ? ` ${error.reason}` : ''}).`,
        'The cluster’s own events may say more.',
      )
    }
    const code = (error as { code?: string }).code ?? ''
    if (/^(ECONNREFUSED|EHOSTUNREACH|ENETUNREACH|ETIMEDOUT|ENOTFOUND|EAI_AGAIN)$/.test(code))
      return say(
        'unreachable',
        `The API of ${where} could not be reached (${error.message}).`,
        'Check the address, whether the cluster runs, and whether a firewall stands between.',
      )
    if (/^(ECONNRESET|EPIPE)$/.test(code) || /socket hang up/.test(error.message))
      return say('connection_lost', `The connection to ${where} broke.`, 'Run it again when the cluster is up.')
    if (/HTTP protocol is not allowed/.test(error.message))
      return say(
        'not_https',
        `The address of ${where} begins with http://, over which nobody signs in to a cluster.`,
        'Give the https:// address of its API.',
      )
    if (/CERT|SELF_SIGNED|UNABLE_TO_VERIFY|ALTNAME/.test(code))
      return say(
        'certificate_refused',
        `The certificate of ${where} could not be verified: ${error.message}.`,
        'Give the certificate authority that signed it.',
      )
    return error
  }

  close(): void {
    this.agent.destroy()
  }
}
