import { VesselError } from '../../../core/errors'
import type { Act } from '../../../core/quiesce/sequence'
import { fillInAll, valuesIn } from '../../../core/quiesce/values'
import { fitsLabels, parseLabelSelector, selectorOf, type SelectorFields } from '../../../core/selection/labels'
import type { ClusterAccess } from './access'
import type { ActJob, ActResult, Holder, PlacedAct } from '../source'
import { ApiFailure, ClusterClient, PODS, resourcePath, type KubeObject } from './client'
import { isPodReady } from './ready'
import { execute, Tail } from './exec'

type ExecAct = Extract<Act, { kind: 'exec' }>
type ScaleAct = Extract<Act, { kind: 'scale' }>
type Target = NonNullable<PlacedAct['pods']>[number]

const LOOK_EVERY_MS = 100

/** Holds of a namespace: commands in its containers, or fewer replicas of a workload. */
export function clusterHolder(access: ClusterAccess): Holder {
  return {
    place: (place, act, signal) => ClusterClient.with(access, (client) => placeAct(client, place, act, signal)),
    perform: (job) =>
      ClusterClient.with(access, (client) =>
        job.placed.act.kind === 'exec' ? executeIn(client, job, job.placed.act) : scale(client, job, job.placed.act),
      ),
  }
}

async function placeAct(client: ClusterClient, namespace: string, act: Act, signal: AbortSignal): Promise<PlacedAct> {
  if (act.kind === 'exec') return { act, pods: await podsFor(client, namespace, act, signal) }
  if (act.kind === 'scale') return { act, before: (await replicasOf(client, namespace, act, signal)).wanted }
  return { act }
}

/** Which pods an act means, of those that run. */
async function podsFor(client: ClusterClient, namespace: string, act: ExecAct, signal: AbortSignal): Promise<Target[]> {
  const { items } = await client.ask<{ items: KubeObject[] }>(resourcePath(PODS, namespace), {
    query: { labelSelector: act.selector },
    signal,
  })
  const running = items
    .filter(({ metadata, status }) => status?.phase === 'Running' && !metadata.deletionTimestamp)
    .sort((a, b) => Number(isPodReady(b)) - Number(isPodReady(a)) || (a.metadata.name < b.metadata.name ? -1 : 1))
  const active = parseLabelSelector(act.active).selector ?? []
  const chosen = act.pods === 'passive' ? running.filter(({ metadata }) => !fitsLabels(active, metadata.labels ?? {})) : running
  if (chosen.length === 0)
    throw new VesselError('no_pod', {
      what:
        act.pods === 'passive' && running.length > 0
          ? `Every pod with ${act.selector} in ${namespace} is an active one (${act.active}).`
          : `No pod with ${act.selector} runs in ${namespace} of ${client.access.name}.`,
      touched: 'Nothing was held by this step.',
      next: 'Look at the labels in the step, and whether the workload runs.',
    })
  return (act.pods === 'all' ? chosen : chosen.slice(0, 1)).map((pod) => ({ pod: pod.metadata.name, container: containerOf(pod, act) }))
}

function containerOf({ metadata, spec }: KubeObject, act: ExecAct): string {
  const names = ((spec?.containers ?? []) as { name: string }[]).map(({ name }) => name)
  const container = act.container || metadata.annotations?.['kubectl.kubernetes.io/default-container'] || names[0]!
  if (names.includes(container)) return container
  throw new VesselError('no_container', {
    what: `The pod ${metadata.name} has no container ${container}; it has ${names.join(', ')}.`,
    touched: 'Nothing was held by this step.',
    next: 'Name one of them in the step.',
  })
}

async function executeIn(client: ClusterClient, job: ActJob, act: ExecAct): Promise<ActResult> {
  const { place, values, signal } = job
  const { texts: command, missing } = fillInAll(act.command, values)
  if (missing) return { output: '', values: {}, failure: `The value ${missing} was not returned.` }
  const pods = job.placed.pods ?? (await podsFor(client, place, act, signal))
  const all = await Promise.all(pods.map((pod) => executeOne(client, place, pod, command, job)))
  const several = all.length > 1
  return {
    output: all.map(({ output }, i) => (several ? `${pods[i]!.pod}:\n${output}` : output)).join('\n'),
    values: Object.assign({}, ...all.map(({ values }) => values)) as Record<string, string>,
    failure:
      all.flatMap(({ failure }, i) => (failure === null ? [] : [several ? `In ${pods[i]!.pod}: ${failure}` : failure])).join(' ') || null,
    moot: all.every(({ moot }) => moot),
  }
}

async function executeOne(client: ClusterClient, namespace: string, target: Target, command: string[], job: ActJob): Promise<ActResult> {
  const out = new Tail()
  const limit = AbortSignal.timeout(Math.max(1, Math.round(job.limitMs)))
  const none = { values: {}, output: '' }
  try {
    const ended = await execute(client, { namespace, ...target }, command, out, AbortSignal.any([job.signal, limit]))
    const output = [out.text, ended.errors]
      .filter((text) => text.trim() !== '')
      .join('\n')
      .trimEnd()
    if (ended.code === 0) return { output, values: valuesIn(out.text), failure: null }
    if (ended.code === null) return { output, values: {}, failure: `It could not be started: ${ended.message}.` }
    const last = ended.errors.trim().split('\n').at(-1)
    return { output, values: {}, failure: `It ended with ${ended.code}${last ? `: ${last}` : ''}.` }
  } catch (error) {
    if (job.signal.aborted) throw error
    const output = out.text.trimEnd()
    if (limit.aborted)
      return {
        ...none,
        output,
        failure: `It had not ended after ${job.limitMs / 1000} s. Whether it goes on in the container is not known.`,
      }
    if (!(await isThere(client, namespace, target.pod))) return { ...none, output, failure: `The pod ${target.pod} is gone.`, moot: true }
    const known = client.translate(error)
    if (known instanceof VesselError) return { ...none, output, failure: known.message }
    return { ...none, output, failure: `The cluster would not run it: ${known instanceof Error ? known.message : String(known)}.` }
  }
}

/** A pod that is gone holds nothing; one that can't be asked about may. */
async function isThere(client: ClusterClient, namespace: string, pod: string): Promise<boolean> {
  return client.ask<KubeObject>(resourcePath(PODS, namespace, pod)).then(
    ({ status }) => status?.phase === 'Running',
    (error: unknown) => !(error instanceof ApiFailure && error.status === 404),
  )
}

const workloadPath = (namespace: string, { workload, name }: ScaleAct) =>
  resourcePath({ group: 'apps', version: 'v1', plural: `${workload.toLowerCase()}s` }, namespace, name)

async function replicasOf(client: ClusterClient, namespace: string, act: ScaleAct, signal?: AbortSignal) {
  const { spec, status } = await client.ask<KubeObject>(workloadPath(namespace, act), { signal })
  const { items } = await client.ask<{ items: KubeObject[] }>(resourcePath(PODS, namespace), { signal })
  // A workload does not count pods that are ending, and those may still write.
  const selector = selectorOf((spec?.selector ?? {}) as SelectorFields)
  const objects = items.filter(({ metadata }) => fitsLabels(selector, metadata.labels ?? {}))
  return {
    wanted: Number(spec?.replicas ?? 1),
    running: objects.filter(({ status }) => !['Succeeded', 'Failed'].includes(String(status?.phase))).length,
    ready: Number(status?.readyReplicas ?? 0),
  }
}

/** Changes the number of replicas, and waits until it is so: for fewer until the others are gone, for more until they are ready. */
async function scale(client: ClusterClient, { place, limitMs, signal }: ActJob, act: Act): Promise<ActResult> {
  if (act.kind !== 'scale') throw new Error('not an act of a cluster')
  const { workload, name, replicas } = act
  const end = Date.now() + limitMs
  try {
    await client.ask(`${workloadPath(place, act)}/scale`, {
      method: 'PATCH',
      contentType: 'application/merge-patch+json',
      body: { spec: { replicas } },
      signal,
    })
    for (;;) {
      const { running, ready } = await replicasOf(client, place, act, signal)
      if (running === replicas && ready === replicas) break
      if (Date.now() > end)
        return {
          output: '',
          values: {},
          failure: `${workload} ${name} has ${running} of ${replicas} replicas, ${ready} ready, after ${limitMs / 1000} s.`,
        }
      await new Promise((resolve) => setTimeout(resolve, LOOK_EVERY_MS))
    }
    return { output: `${workload} ${name} has ${replicas} replicas.`, values: { replicas: String(replicas) }, failure: null }
  } catch (error) {
    signal.throwIfAborted()
    if (error instanceof ApiFailure && error.status === 404)
      return { output: '', values: {}, failure: `There is no ${workload} ${name}.`, moot: true }
    throw error
  }
}
