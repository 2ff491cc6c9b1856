import { createReadStream, existsSync } from 'node:fs'
import type { ServerResponse } from 'node:http'
import { ensureRoom, ensureUnfixed, ensureValid, prepared, withDefaults } from './admission'
import { mayDo, type User } from './access'
import { removeOfDefinition, type Cluster } from './cluster'
import { badRequest, conflict, Failure } from './failure'
import { patched } from './patch'
import type { ObjectRequest } from './requests'
import { apiVersionOf, type KubeObject } from './resources'
import { selected } from './selectors'

type Answer = { code: number; body: unknown }

/** What the API does with objects, one request at a time. Nothing is kept of a dry run. */
export class Answers {
  constructor(private readonly cluster: Cluster) {}

  private get objects() {
    return this.cluster.objects
  }

  create(asked: ObjectRequest, body: unknown, manager: string, user: User): Answer {
    const { type, namespace, query } = asked
    if (type.transient) return { code: 201, body: this.review(body as KubeObject, user) }
    const object = withDefaults(prepared(type, namespace, body, manager), this.objects)
    ensureValid(type, object)
    ensureRoom(type, this.objects, object)
    if (query.get('dryRun') === 'All') {
      if (this.objects.find(type, namespace, object.metadata.name)) this.objects.create(type, object)
      return { code: 201, body: object }
    }
    return { code: 201, body: this.objects.create(type, object) }
  }

  private review(body: KubeObject, user: User): KubeObject {
    if (body.kind === 'SelfSubjectReview') return { ...body, status: { userInfo: { username: user.name, groups: user.groups } } }
    const wanted = body.spec?.resourceAttributes as
      { verb: string; group?: string; resource: string; subresource?: string; namespace?: string; name?: string } | undefined
    if (!wanted) throw badRequest('resourceAttributes are needed')
    const { verb, group = '', resource, subresource, namespace, name } = wanted
    const allowed = mayDo(this.objects, user, {
      verb,
      group,
      resource: subresource ? `${resource}/${subresource}` : resource,
      namespace: namespace || undefined,
      name,
    })
    return { ...body, status: { allowed } }
  }

  replace({ type, namespace, name, part, query }: ObjectRequest, body: unknown): Answer {
    const object = body as KubeObject
    if (!object?.metadata?.name || object.metadata.name !== name)
      throw badRequest('the name in the data does not match the one in the address')
    if (part === 'scale') return this.scale({ type, namespace, name } as ObjectRequest, Number(object.spec?.replicas))
    if (type.namespaced) object.metadata.namespace = namespace
    return this.write({ type, namespace, name, part, query }, object)
  }

  patch(asked: ObjectRequest, patch: unknown, contentType: string, manager: string, user: User): Answer {
    const { type, namespace, name, part } = asked
    const before = this.objects.find(type, namespace, name!)
    if (!before && contentType === 'application/apply-patch+yaml') return this.create(asked, patch, manager, user)
    const there = this.objects.get(type, namespace, name!)
    if (part === 'scale') return this.scale(asked, Number((patch as KubeObject).spec?.replicas))
    const after = patched(there, patch, contentType)
    // A patch that names a version wants that one; any other takes what is there.
    const wanted = (patch as KubeObject)?.metadata?.resourceVersion
    after.metadata = { ...after.metadata, resourceVersion: wanted ?? there.metadata.resourceVersion }
    return this.write(asked, after)
  }

  private write({ type, namespace, name, part, query }: ObjectRequest, object: KubeObject): Answer {
    const before = this.objects.get(type, namespace, name!)
    if (object.metadata.uid && object.metadata.uid !== before.metadata.uid)
      throw conflict(type, name!, 'the UID in the precondition does not match')
    if (part !== 'status') {
      ensureUnfixed(type, before, object)
      ensureValid(type, object)
    }
    if (query.get('dryRun') === 'All') return { code: 200, body: object }
    return { code: 200, body: this.objects.update(type, object, part === 'status' ? 'status' : 'spec') }
  }

  /** A workload's wish for pods, as an object of the kind Scale. */
  scaleOf({ type, namespace, name }: ObjectRequest): KubeObject {
    const { metadata, spec, status } = this.objects.get(type, namespace, name!)
    const { name: workload, uid, resourceVersion, creationTimestamp } = metadata
    return {
      kind: 'Scale',
      apiVersion: 'autoscaling/v1',
      metadata: { name: workload, namespace, uid, resourceVersion, creationTimestamp },
      spec: { replicas: spec?.replicas ?? 0 },
      status: { replicas: status?.replicas ?? 0 },
    }
  }

  private scale(asked: ObjectRequest, replicas: number): Answer {
    if (!Number.isInteger(replicas) || replicas < 0) throw badRequest('spec.replicas must be a whole number')
    const object = structuredClone(this.objects.get(asked.type, asked.namespace, asked.name!))
    object.spec!.replicas = replicas
    this.objects.update(asked.type, object)
    return { code: 200, body: this.scaleOf(asked) }
  }

  remove({ type, namespace, name, query }: ObjectRequest, options: unknown): Answer {
    const { gracePeriodSeconds, preconditions, propagationPolicy, dryRun } = (options ?? {}) as Record<string, any>
    const object = this.objects.get(type, namespace, name!)
    if (preconditions?.uid && preconditions.uid !== object.metadata.uid)
      throw conflict(type, name!, 'the UID in the precondition does not match')
    if (query.get('dryRun') === 'All' || dryRun?.includes('All')) return { code: 200, body: object }
    if ((propagationPolicy ?? query.get('propagationPolicy')) === 'Orphan') this.orphan(object)
    if (type.kind === 'Namespace') {
      if (['default', 'kube-system'].includes(name!))
        throw new Failure(403, 'Forbidden', `namespaces "${name}" is forbidden: this namespace may not be deleted`)
      return { code: 200, body: this.cluster.lifecycle.terminate(object) }
    }
    if (type.kind === 'CustomResourceDefinition') removeOfDefinition(this.cluster, object)
    const grace = Number(gracePeriodSeconds ?? query.get('gracePeriodSeconds') ?? object.spec?.terminationGracePeriodSeconds ?? 0)
    return { code: 200, body: this.objects.remove(type, namespace, name!, grace) }
  }

  private orphan({ metadata }: KubeObject): void {
    for (const type of this.cluster.types())
      for (const object of this.objects.list(type)) {
        const owners = object.metadata.ownerReferences ?? []
        if (!owners.some(({ uid }) => uid === metadata.uid)) continue
        const freed = structuredClone(object)
        freed.metadata.ownerReferences = owners.filter(({ uid }) => uid !== metadata.uid)
        this.objects.update(type, freed)
      }
  }

  removeAll(asked: ObjectRequest, options: unknown): Answer {
    const { type, namespace, query } = asked
    const items = this.objects.list(type, namespace).filter(selected(query))
    for (const { metadata } of items) this.remove({ ...asked, namespace: metadata.namespace, name: metadata.name }, options)
    return {
      code: 200,
      body: {
        kind: `${type.kind}List`,
        apiVersion: apiVersionOf(type),
        metadata: { resourceVersion: this.objects.resourceVersion },
        items,
      },
    }
  }

  /** What a container has written, up to now. */
  log({ type, namespace, name, query }: ObjectRequest, response: ServerResponse): void {
    const pod = this.objects.get(type, namespace, name!)
    const container = query.get('container') ?? pod.spec!.containers[0].name
    const file = this.cluster.pods.logOf(pod, container)
    response.writeHead(200, { 'content-type': 'text/plain' })
    if (existsSync(file)) createReadStream(file).pipe(response)
    else response.end()
  }
}
