import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import type { NamespaceManifest, ObjectEntry } from '../content/manifest'
import type { Collision } from '../restore/wish'
import type { ClusterObject } from './clean'
import { planNamespace, type PlanInput } from './plan'
import { rightsInWords } from './rights'
import { objectKey, quantity, type ClusterState } from './target'
import { clusterWishOf, type ClusterWish } from './wish'

const object = (apiVersion: string, kind: string, name: string, more: object = {}): ClusterObject => ({
  apiVersion,
  kind,
  metadata: { name, namespace: 'boarding' },
  ...more,
})
const wide = (apiVersion: string, kind: string, name: string, more: object = {}): ClusterObject => ({
  apiVersion,
  kind,
  metadata: { name },
  ...more,
})
const groupOf = (apiVersion: string) => (apiVersion.includes('/') ? apiVersion.split('/')[0]! : '')
const pathOf = ({ apiVersion, kind, metadata }: ClusterObject) =>
  `pier/${metadata.namespace ?? '@cluster'}/${groupOf(apiVersion!) || 'core'}/${kind}/${metadata.name}`

const set = object('apps/v1', 'StatefulSet', 'manifest', {
  spec: {
    serviceName: 'manifest',
    replicas: 2,
    template: { metadata: { labels: { app: 'manifest' } }, spec: { containers: [{ image: 'images.example/m:1' }] } },
    volumeClaimTemplates: [{ metadata: { name: 'data' }, spec: { storageClassName: 'berth' } }],
  },
})
const claim = object('v1', 'PersistentVolumeClaim', 'data-manifest-0', {
  spec: { storageClassName: 'berth', resources: { requests: { storage: '1Gi' } } },
})
const service = object('v1', 'Service', 'manifest', { spec: { selector: { app: 'manifest' } } })
const settings = object('v1', 'ConfigMap', 'settings', { data: { LANES: '4' } })
const lane = object('lanes.example/v1', 'Lane', 'foot', { spec: { width: 2 } })
const definition = wide('apiextensions.k8s.io/v1', 'CustomResourceDefinition', 'lanes.lanes.example', {
  spec: { group: 'lanes.example', names: { kind: 'Lane' }, versions: [{ name: 'v1' }] },
})
const berth = wide('storage.k8s.io/v1', 'StorageClass', 'berth', { provisioner: 'x' })
const all = [set, claim, service, settings, lane, definition, berth]
const entry = (entity: ClusterObject, line: number): ObjectEntry => ({
  path: pathOf(entity),
  group: groupOf(entity.apiVersion!),
  version: 'v1',
  kind: entity.kind!,
  name: entity.metadata.name,
  labels: {},
  digest: '',
  bytes: 10,
  line,
  uses: entity === lane ? [pathOf(definition)] : entity === claim || entity === set ? [pathOf(berth)] : [],
  ...(entity.metadata.namespace ? {} : { wide: true }),
})
const manifest: NamespaceManifest = {
  name: 'boarding',
  at: '2026-11-24T09:00:00.000Z',
  labels: { team: 'gates' },
  objects: all.map(entry),
  chunks: [],
  volumes: [
    {
      path: 'pier/boarding/volume/data-manifest-0',
      claim: 'data-manifest-0',
      storageClass: 'berth',
      capacity: '1Gi',
      how: 'snapshot',
      at: '',
      files: 3,
      bytes: 1000,
      fingerprint: '',
      entries: [],
    },
  ],
  missing: [],
}
const KINDS: [string, string][] = [
  ['apps', 'StatefulSet'],
  ['', 'PersistentVolumeClaim'],
  ['', 'Service'],
  ['', 'ConfigMap'],
  ['apiextensions.k8s.io', 'CustomResourceDefinition'],
  ['storage.k8s.io', 'StorageClass'],
]
function state(source: string, standing: ClusterObject[], more: Partial<ClusterState> = {}): ClusterState {
  return {
    source,
    served: KINDS.map(([group, kind]) => ({ group, kind, plural: `${kind.toLowerCase()}s`, version: 'v1', namespaced: true })),
    objects: new Map(
      standing.map((entity) => [
        objectKey(groupOf(entity.apiVersion!), entity.kind!, entity.metadata.namespace ?? null, entity.metadata.name),
        entity,
      ]),
    ),
    namespaces: new Map(standing.some(({ metadata }) => metadata.namespace) ? [['boarding', { phase: 'Active', labels: {} }]] : []),
    classes: standing.filter(({ kind }) => kind === 'StorageClass').map(({ metadata }) => metadata.name),
    defaultClass: null,
    quotas: [],
    ...more,
  }
}
const plan = (
  target: ClusterState,
  cluster: Partial<ClusterWish> = {},
  more: { picks?: string[]; collide?: Collision; each?: Record<string, Collision> } = {},
  picked: PlanInput['picked'] = {},
) =>
  planNamespace({
    source: 'pier',
    manifest,
    objects: all,
    target,
    picked,
    asked: { picks: ['pier/boarding'], collide: 'replace', each: {}, ...more, cluster: clusterWishOf(cluster) },
  })
const islet = (more: Partial<ClusterState> = {}) => state('islet', [wide('storage.k8s.io/v1', 'StorageClass', 'pontoon')], more)
const verbs = ({ plan: { operations } }: ReturnType<typeof plan>) =>
  Object.fromEntries(operations.map(({ name, kind, verb }) => [`${kind} ${name}`, verb]))

describe('a namespace that is gone', () => {
  it('is made again in the order of what needs what, with the definitions that are missing', () => {
    const { plan: found } = plan(state('pier', [berth]))
    expect(found).toMatchObject({ makes: true, into: 'boarding', blockers: [], warnings: [], overwrites: 0, bytes: 1000, files: 3 })
    expect(found.operations.map(({ kind, verb }) => `${verb} ${kind}`)).toEqual([
      'create CustomResourceDefinition',
      'create PersistentVolumeClaim',
      'create ConfigMap',
      'create StatefulSet',
      'create Lane',
      'create Service',
    ])
  })
  it('brings only what is picked, and the claim of a volume with it', () => {
    const { plan: found } = plan(state('pier', [berth, definition]), {}, { picks: ['pier/boarding/volume/data-manifest-0'] })
    expect(found.operations.map(({ kind }) => kind)).toEqual(['PersistentVolumeClaim'])
    expect(found.volumes).toMatchObject([{ verb: 'create', only: null }])
  })
})

describe('another cluster', () => {
  it('needs a class in place of one that it does not have, and never gets the class itself', () => {
    const { plan: found } = plan(islet())
    expect(found.blockers).toMatchObject([
      { code: 'class_missing', next: 'Say which class is to be used in its place; there are: pontoon.' },
    ])
    expect(found.operations.some(({ kind }) => kind === 'StorageClass')).toBe(false)
    expect(found.asks).toEqual({ classes: ['berth'], registries: ['images.example'] })
    expect(plan(islet(), { classes: { berth: 'pontoon' } }).plan.blockers).toEqual([])
  })
  it('refuses kinds that it does not serve, and a namespace that is ending', () => {
    const without = islet({ served: [] })
    expect(plan(without, {}, { picks: [pathOf(settings)] }).plan.blockers).toMatchObject([
      { code: 'not_served', what: 'islet serves no ConfigMap of v1.', next: 'Install what defines it there, or leave these out.' },
    ])
    const ending = islet({ namespaces: new Map([['boarding', { phase: 'Terminating', labels: {} }]]) })
    expect(plan(ending, {}, { picks: [pathOf(settings)] }).plan.blockers).toMatchObject([{ code: 'namespace_ending' }])
  })
  it('counts what its quotas would not let through', () => {
    const quotas = [
      {
        namespace: 'boarding',
        name: 'small',
        hard: { 'requests.storage': '1500Mi', configmaps: '5' },
        used: { 'requests.storage': '1Gi', configmaps: '4' },
      },
    ]
    const namespaces = new Map([['boarding', { phase: 'Active', labels: {} }]])
    const { blockers } = plan(islet({ quotas, namespaces }), { classes: { berth: 'pontoon' } }).plan
    expect(blockers.map(({ what }) => what)).toEqual([
      'The quota small of boarding lets 1500Mi of requests.storage be there; 1Gi are, and 1024Mi more would come.',
    ])
  })
})

describe('what stands there already', () => {
  const standing = [berth, definition, set, claim, service, object('v1', 'ConfigMap', 'settings', { data: { LANES: '9' } })]
  it('is left where it is the same, and replaced, merged or skipped where it is not', () => {
    expect(verbs(plan(state('pier', standing)))).toMatchObject({ 'Service manifest': 'leave', 'ConfigMap settings': 'replace' })
    expect(plan(state('pier', standing)).plan.operations.find(({ kind }) => kind === 'Service')).toMatchObject({ same: true })
    expect(verbs(plan(state('pier', standing), {}, { collide: 'merge' }))['ConfigMap settings']).toBe('merge')
    expect(verbs(plan(state('pier', standing), {}, { collide: 'skip' }))['ConfigMap settings']).toBe('leave')
    const each = { [pathOf(settings)]: 'merge' as const, 'pier/boarding/volume/data-manifest-0': 'skip' as const }
    const { plan: found } = plan(state('pier', standing), {}, { each })
    expect([found.operations.find(({ kind }) => kind === 'ConfigMap')!.verb, found.volumes[0]!.verb]).toEqual(['merge', 'leave'])
  })
  it('is made anew where the API lets nobody change it, and then can’t be merged', () => {
    const other = object('apps/v1', 'StatefulSet', 'manifest', { spec: { ...set.spec, serviceName: 'other' } })
    const [stands] = [state('pier', [berth, definition, other])]
    expect(plan(stands).plan.operations.find(({ kind }) => kind === 'StatefulSet')).toMatchObject({
      verb: 'replace',
      anew: ['spec.serviceName'],
    })
    expect(plan(stands, {}, { collide: 'merge' }).plan.operations.find(({ kind }) => kind === 'StatefulSet')).toMatchObject({
      verb: 'leave',
    })
  })
  it('is stepped around by another name, which its claim and whatever refers to it follow', () => {
    const { plan: found, objects } = plan(state('pier', standing), {}, { collide: 'rename' })
    expect(found.operations.find(({ kind }) => kind === 'StatefulSet')).toMatchObject({
      name: 'manifest-then',
      verb: 'create',
      renamed: true,
    })
    expect(found.volumes[0]).toMatchObject({ claim: 'data-manifest-then-0', verb: 'create' })
    expect(objects.find(({ operation }) => operation.kind === 'StatefulSet')!.object.spec).toMatchObject({ serviceName: 'manifest-then' })
  })
  it('gets single files laid over it', () => {
    const files = { 'pier/boarding/volume/data-manifest-0': ['a.txt'] }
    const picked = { 'pier/boarding/volume/data-manifest-0': { files: 1, bytes: 7 } }
    const { plan: found } = plan(state('pier', standing), { files }, { picks: [] }, picked)
    expect([found.operations, found.volumes]).toMatchObject([[], [{ verb: 'merge', only: ['a.txt'] }]])
    expect([found.files, found.bytes]).toEqual([1, 7])
  })
  it('gets no files where there is no claim for them', () => {
    const files = { 'pier/boarding/volume/data-manifest-0': ['a.txt'] }
    const { plan: found } = plan(state('pier', [berth, definition]), { files }, { picks: [] })
    expect(found.blockers).toMatchObject([{ code: 'claim_missing', what: expect.stringContaining('data-manifest-0 has no claim there') }])
  })
})

describe('a plan that was carried out', () => {
  /** The cluster as it is when everything was done. */
  function after(target: ClusterState, { plan: done, objects }: ReturnType<typeof plan>): ClusterState {
    const standing = new Map(target.objects)
    for (const { operation, object: made } of objects)
      if (operation.verb !== 'leave') {
        const { kind, metadata } = made
        standing.set(objectKey(groupOf(made.apiVersion!), kind!, metadata.namespace ?? null, metadata.name), made)
      }
    const classes = [...standing.values()].filter(({ kind }) => kind === 'StorageClass').map(({ metadata }) => metadata.name)
    return serving({ ...target, objects: standing, classes, namespaces: new Map([[done.into, { phase: 'Active', labels: {} }]]) })
  }
  /** A definition that stands there is served. */
  function serving(target: ClusterState): ClusterState {
    const stands = [...target.objects.values()].some(({ metadata }) => metadata.name === definition.metadata.name)
    const lane = { group: 'lanes.example', kind: 'Lane', plural: 'lanes', version: 'v1', namespaced: true }
    return { ...target, served: [...state('pier', []).served, ...(stands ? [lane] : [])] }
  }
  const changed = (entity: ClusterObject): ClusterObject => ({
    ...entity,
    metadata: { ...entity.metadata, labels: { changed: 'by hand' } },
  })

  it('finds nothing more to do, whatever stood there and whatever is wished', () => {
    fc.assert(
      fc.property(
        fc.array(fc.constantFrom('gone', 'as it was', 'changed'), { minLength: all.length, maxLength: all.length }),
        fc.record({
          prefix: fc.constantFrom('', 'old-'),
          suffix: fc.constantFrom('', '-then'),
          labels: fc.constantFrom<Record<string, string>>({}, { copy: 'yes' }),
          namespaces: fc.constantFrom<Record<string, string>>({}, { boarding: 'elsewhere' }),
        }),
        (fates, wish) => {
          const standing = all.flatMap((entity, i) => (fates[i] === 'gone' ? [] : [fates[i] === 'changed' ? changed(entity) : entity]))
          const target = serving(state('pier', standing, { classes: ['berth'] }))
          const done = plan(target, wish)
          expect(done.plan.blockers).toEqual([])
          const again = plan(after(target, done), wish)
          expect(again.plan.operations.filter(({ verb }) => verb !== 'leave')).toEqual([])
        },
      ),
    )
  })
})

describe('what is left out', () => {
  it('keeps its name in what refers to it, and is told where it is needed and not there', () => {
    const { plan: found, objects } = plan(state('pier', [berth, definition]), { exposure: 'leave', prefix: 'old-' })
    expect(found.warnings).toEqual(['StatefulSet old-manifest needs Service manifest, which is left out and is not there.'])
    expect(objects.find(({ operation }) => operation.kind === 'StatefulSet')!.object.spec).toMatchObject({ serviceName: 'manifest' })
    expect(found.volumes[0]!.claim).toBe('data-old-manifest-0')
  })
})

describe('a copy beside a living original', () => {
  const port = object('v1', 'Service', 'manifest', { spec: { type: 'NodePort', ports: [{ port: 80, nodePort: 30080 }] } })
  const outside = (target: ClusterState, cluster: Partial<ClusterWish>) => {
    const objects = [port]
    const { plan: found, objects: planned } = planNamespace({
      source: 'pier',
      manifest: { ...manifest, objects: objects.map(entry), volumes: [] },
      objects,
      target,
      asked: { picks: ['pier/boarding'], collide: 'replace', each: {}, cluster: clusterWishOf(cluster) },
    })
    return [(planned[0]!.object.spec as { type: string }).type, found.unplugged !== null]
  }
  const alive = state('pier', [berth], { namespaces: new Map([['boarding', { phase: 'Active', labels: {} }]]) })
  it('comes back unplugged by itself, and says why', () => {
    expect(outside(alive, { namespaces: { boarding: 'boarding-2026-11-24' } })).toEqual(['ClusterIP', true])
    expect(outside(alive, { suffix: '-then' })).toEqual(['ClusterIP', true])
  })
  it('is as it was where a person says so, in its own place, and where the original is gone or elsewhere', () => {
    expect(outside(alive, { namespaces: { boarding: 'copy' }, exposure: 'keep' })).toEqual(['NodePort', false])
    expect(outside(alive, {})).toEqual(['NodePort', false])
    expect(outside(state('pier', [berth]), { namespaces: { boarding: 'copy' } })).toEqual(['NodePort', false])
    expect(outside(islet(), { namespaces: { boarding: 'copy' } })).toEqual(['NodePort', false])
  })
})

describe('workloads that are left at rest', () => {
  it('come back with nothing running, and what would run at once does not come', () => {
    const pod = object('v1', 'Pod', 'once', { spec: { containers: [] } })
    const objects = [set, pod]
    const { objects: planned } = planNamespace({
      source: 'pier',
      manifest: { ...manifest, objects: objects.map(entry), volumes: [] },
      objects,
      target: state('pier', [berth]),
      asked: { picks: ['pier/boarding'], collide: 'replace', each: {}, cluster: clusterWishOf({ atRest: true }) },
    })
    const [workload, once] = ['StatefulSet', 'Pod'].map((kind) => planned.find(({ operation }) => operation.kind === kind)!)
    expect(workload!.object.spec).toMatchObject({ replicas: 0 })
    expect(workload!.operation.notes).toContain('left at rest: replicas was 2')
    expect(once!.operation).toMatchObject({ verb: 'leave', notes: ['It would run at once, and workloads are left at rest.'] })
  })
})

describe('rights that a plan needs', () => {
  it('are those of what it does at its target, each once, for kinds that are served', () => {
    const { plan: found } = plan(state('pier', [berth]))
    expect(rightsInWords(found.needs)).toEqual([
      'create namespaces',
      'create and get customresourcedefinitions.apiextensions.k8s.io',
      'create and get persistentvolumeclaims in boarding',
      'create and get configmaps in boarding',
      'create, patch and get statefulsets.apps in boarding',
      'create and get services in boarding',
      'create, get and delete pods in boarding',
      'create pods/exec in boarding',
    ])
  })
  it('follow what is done with what stands there', () => {
    const standing = [{ ...settings, data: { LANES: '5' } }, berth]
    const of = (collide: Collision) => rightsInWords(plan(state('pier', standing), {}, { picks: [pathOf(settings)], collide }).plan.needs)
    expect(of('replace')).toEqual(['update and get configmaps in boarding'])
    expect(of('merge')).toEqual(['patch and get configmaps in boarding'])
    expect(of('skip')).toEqual([])
  })
})

describe('quantities of the API', () => {
  it.each([
    ['500m', 0.5],
    ['2Gi', 2 ** 31],
    ['3', 3],
    ['1.5k', 1500],
    ['x', null],
    [undefined, null],
  ])('%s', (text, value) => expect(quantity(text)).toBe(value))
})
