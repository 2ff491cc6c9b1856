import { createHash } from 'node:crypto'
import { ensureRoom, prepared, usedOf, withDefaults } from './admission'
import { CronJobs } from './cron-jobs'
import { Failure } from './failure'
import { change, ownedBy, refTo, type Parts } from './parts'
import type { KubeObject } from './resources'

const apps = (plural: string) => ({ group: 'apps', plural })
const PODS = { group: '', plural: 'pods' }

type Template = { metadata?: { labels?: Record<string, string>; annotations?: Record<string, string> }; spec: Record<string, any> }

const isReady = ({ status }: KubeObject) =>
  Boolean(
    (status?.conditions as { type: string; status: string }[] | undefined)?.some(
      (condition) => condition.type === 'Ready' && condition.status === 'True',
    ),
  )
const isAlive = ({ metadata, status }: KubeObject) =>
  !metadata.deletionTimestamp && !['Succeeded', 'Failed'].includes(String(status?.phase))
const hashOf = (value: unknown) => createHash('sha256').update(JSON.stringify(value)).digest('hex').slice(0, 10)

/** The controllers of workloads: they bring what is there to what is wanted. */
export class Workloads {
  private readonly cronJobs: CronJobs

  constructor(private readonly parts: Parts) {
    this.cronJobs = new CronJobs(parts, (...job) => this.make(...job))
  }

  look(): void {
    const { objects } = this.parts
    for (const object of objects.list(apps('deployments'))) if (!object.metadata.deletionTimestamp) this.deployment(object)
    for (const object of objects.list(apps('replicasets'))) if (!object.metadata.deletionTimestamp) this.replicaSet(object)
    for (const object of objects.list(apps('statefulsets'))) if (!object.metadata.deletionTimestamp) this.statefulSet(object)
    for (const object of objects.list(apps('daemonsets'))) if (!object.metadata.deletionTimestamp) this.daemonSet(object)
    for (const object of objects.list({ group: 'batch', plural: 'cronjobs' }))
      if (!object.metadata.deletionTimestamp) this.cronJobs.look(object)
    for (const object of objects.list({ group: 'batch', plural: 'jobs' })) if (!object.metadata.deletionTimestamp) this.job(object)
    for (const object of objects.list({ group: '', plural: 'services' })) this.endpoints(object)
    for (const object of objects.list({ group: '', plural: 'resourcequotas' })) this.quota(object)
  }

  private quota(quota: KubeObject): void {
    const { objects, types } = this.parts
    change(this.parts, 'ResourceQuota', quota, (current) => {
      current.status = { hard: current.spec?.hard, used: usedOf(objects, types(), current) }
    })
  }

  private make(kind: string, namespace: string | undefined, body: Record<string, unknown>): void {
    const { objects, typeOf } = this.parts
    const type = typeOf(kind)
    try {
      const object = withDefaults(prepared(type, namespace, { kind, ...body }, 'controller'), objects)
      ensureRoom(type, objects, object)
      objects.create(type, object)
    } catch (error) {
      // A quota or a namespace that is going: it is tried again at the next look.
      if (!(error instanceof Failure)) throw error
    }
  }

  private pod(
    owner: KubeObject,
    template: Template,
    name: string,
    more: { labels?: Record<string, string>; spec?: Record<string, unknown> } = {},
  ): void {
    this.make('Pod', owner.metadata.namespace, {
      metadata: {
        name,
        labels: { ...template.metadata?.labels, ...more.labels },
        annotations: template.metadata?.annotations,
        ownerReferences: [refTo(owner)],
      },
      spec: { ...structuredClone(template.spec), ...more.spec },
    })
  }

  private podsOf(owner: KubeObject): KubeObject[] {
    return ownedBy(this.parts.objects.list(PODS, owner.metadata.namespace), owner)
  }

  private status(kind: string, owner: KubeObject, pods: KubeObject[], more: Record<string, unknown> = {}): void {
    change(this.parts, kind, owner, (current) => {
      const ready = pods.filter(isReady).length
      current.status = {
        observedGeneration: current.metadata.generation,
        replicas: pods.length,
        readyReplicas: ready,
        availableReplicas: ready,
        ...more,
      }
    })
  }

  private deployment(deployment: KubeObject): void {
    const { objects } = this.parts
    const spec = deployment.spec!
    const template = spec.template as Template
    const hash = hashOf(template)
    const sets = ownedBy(objects.list(apps('replicasets'), deployment.metadata.namespace), deployment)
    const name = `${deployment.metadata.name}-${hash}`
    const labels = { ...template.metadata?.labels, 'pod-template-hash': hash }
    const current = sets.find(({ metadata }) => metadata.name === name)
    if (!current)
      this.make('ReplicaSet', deployment.metadata.namespace, {
        metadata: { name, labels, ownerReferences: [refTo(deployment)] },
        spec: {
          replicas: spec.replicas,
          selector: { matchLabels: { ...spec.selector.matchLabels, 'pod-template-hash': hash } },
          template: { ...template, metadata: { ...template.metadata, labels } },
        },
      })
    for (const set of sets) {
      const replicas = set === current ? spec.replicas : 0
      if (set.spec!.replicas !== replicas)
        change(this.parts, 'ReplicaSet', set, (replicaSet) => (replicaSet.spec!.replicas = replicas), 'spec')
    }
    this.status('Deployment', deployment, sets.flatMap((set) => this.podsOf(set)).filter(isAlive), {
      updatedReplicas: current ? this.podsOf(current).filter(isAlive).length : 0,
    })
  }

  private replicaSet(set: KubeObject): void {
    const pods = this.podsOf(set).filter(isAlive)
    const wanted = Number(set.spec!.replicas ?? 1)
    for (let i = pods.length; i < wanted; i++)
      this.pod(set, set.spec!.template as Template, `${set.metadata.name}-${hashOf([set.metadata.uid, Math.random()]).slice(0, 5)}`)
    for (const pod of pods.slice(wanted)) this.parts.objects.remove(this.parts.typeOf('Pod'), pod.metadata.namespace, pod.metadata.name, 30)
    this.status('ReplicaSet', set, pods)
  }

  private statefulSet(set: KubeObject): void {
    const { objects, typeOf } = this.parts
    const { namespace, name } = set.metadata
    const spec = set.spec!
    const template = spec.template as Template
    const hash = hashOf(template)
    const pods = this.podsOf(set)
    const wanted = Number(spec.replicas ?? 1)
    for (let i = 0; i < wanted; i++) {
      const podName = `${name}-${i}`
      const there = pods.find(({ metadata }) => metadata.name === podName)
      if (
        there?.metadata.labels?.['controller-revision-hash'] &&
        there.metadata.labels['controller-revision-hash'] !== hash &&
        isAlive(there)
      )
        objects.remove(typeOf('Pod'), namespace, podName, 30)
      if (there && isReady(there)) continue
      if (there) break
      const claims = (spec.volumeClaimTemplates ?? []) as KubeObject[]
      for (const claim of claims) {
        const claimName = `${claim.metadata.name}-${podName}`
        if (!objects.find({ group: '', plural: 'persistentvolumeclaims' }, namespace, claimName))
          this.make('PersistentVolumeClaim', namespace, {
            metadata: { name: claimName, labels: { ...spec.selector?.matchLabels, ...claim.metadata.labels } },
            spec: claim.spec,
          })
      }
      const volumes = claims.map(({ metadata }) => ({
        name: metadata.name,
        persistentVolumeClaim: { claimName: `${metadata.name}-${podName}` },
      }))
      this.pod(set, template, podName, {
        labels: { 'statefulset.kubernetes.io/pod-name': podName, 'controller-revision-hash': hash },
        spec: { hostname: podName, subdomain: spec.serviceName, volumes: [...(template.spec.volumes ?? []), ...volumes] },
      })
      break
    }
    for (const pod of pods) {
      if (Number(pod.metadata.name.slice(name.length + 1)) >= wanted && !pod.metadata.deletionTimestamp)
        objects.remove(typeOf('Pod'), namespace, pod.metadata.name, 30)
    }
    this.status('StatefulSet', set, pods.filter(isAlive), { currentRevision: hash, updateRevision: hash })
  }

  private daemonSet(set: KubeObject): void {
    const nodes = this.parts.objects.list({ group: '', plural: 'nodes' })
    const pods = this.podsOf(set).filter(isAlive)
    for (const { metadata } of nodes) {
      if (pods.some(({ spec }) => spec?.nodeName === metadata.name)) continue
      this.pod(set, set.spec!.template as Template, `${set.metadata.name}-${hashOf([set.metadata.uid, metadata.name]).slice(0, 5)}`, {
        spec: { nodeName: metadata.name },
      })
    }
    change(this.parts, 'DaemonSet', set, (current) => {
      const ready = pods.filter(isReady).length
      current.status = {
        observedGeneration: current.metadata.generation,
        desiredNumberScheduled: nodes.length,
        currentNumberScheduled: pods.length,
        numberReady: ready,
      }
    })
  }

  private job(job: KubeObject): void {
    const pods = this.podsOf(job)
    const count = (phase: string) => pods.filter(({ status }) => status?.phase === phase).length
    const { completions, parallelism, backoffLimit } = job.spec as { completions: number; parallelism: number; backoffLimit: number }
    const [succeeded, failed, active] = [count('Succeeded'), count('Failed'), pods.filter(isAlive).length]
    const over = succeeded >= completions || failed > backoffLimit
    for (let i = active; !over && i < Math.min(parallelism, completions - succeeded) && !job.spec!.suspend; i++)
      this.pod(job, job.spec!.template as Template, `${job.metadata.name}-${hashOf([job.metadata.uid, pods.length, i]).slice(0, 5)}`, {
        labels: { 'job-name': job.metadata.name },
      })
    change(this.parts, 'Job', job, (current) => {
      current.status = {
        startTime: current.metadata.creationTimestamp,
        active,
        succeeded,
        failed,
        ...(over ? { conditions: [{ type: succeeded >= completions ? 'Complete' : 'Failed', status: 'True' }] } : {}),
      }
    })
  }

  /** A service's endpoints are the pods that it chooses and that are ready. */
  private endpoints(service: KubeObject): void {
    const selector = service.spec?.selector as Record<string, string> | undefined
    if (!selector || service.metadata.deletionTimestamp) return
    const { objects } = this.parts
    const { namespace, name } = service.metadata
    const pods = objects
      .list(PODS, namespace)
      .filter((pod) => isReady(pod) && Object.entries(selector).every(([key, value]) => pod.metadata.labels?.[key] === value))
    const subsets =
      pods.length === 0 ? [] : [{ addresses: pods.map((pod) => ({ ip: '10.1.0.1', targetRef: { kind: 'Pod', name: pod.metadata.name } })) }]
    const there = objects.find({ group: '', plural: 'endpoints' }, namespace, name)
    if (!there) this.make('Endpoints', namespace, { metadata: { name, ownerReferences: [refTo(service)] }, subsets })
    else if (JSON.stringify(there.subsets) !== JSON.stringify(subsets))
      change(this.parts, 'Endpoints', there, (current) => (current.subsets = subsets), 'spec')
  }
}
