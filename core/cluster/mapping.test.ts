import { describe, expect, it } from 'vitest'
import type { ClusterObject } from './clean'
import { mapObject, renameKey, type Renames } from './mapping'
import { clusterWishOf, type ClusterWish } from './wish'

const deployment = (): ClusterObject => ({
  apiVersion: 'apps/v1',
  kind: 'Deployment',
  metadata: { name: 'scanner', namespace: 'boarding', labels: { app: 'scanner', team: 'gates' } },
  spec: {
    replicas: 3,
    template: {
      spec: {
        serviceAccountName: 'gatekeeper',
        imagePullSecrets: [{ name: 'pull' }],
        containers: [
          {
            name: 'main',
            image: 'images.example/boarding/scanner:4',
            envFrom: [{ configMapRef: { name: 'settings' } }],
            env: [{ name: 'KEY', valueFrom: { secretKeyRef: { name: 'keys', key: 'k' } } }],
          },
        ],
        initContainers: [{ name: 'first', image: 'other.example/init:1' }],
        volumes: [
          { name: 'a', persistentVolumeClaim: { claimName: 'data' } },
          { name: 'b', projected: { sources: [{ configMap: { name: 'settings' } }] } },
        ],
      },
    },
  },
})
const map = (object: ClusterObject, wish: Partial<ClusterWish>, renames: Renames = new Map(), namespace: string | null = 'boarding') =>
  mapObject(object, namespace, clusterWishOf(wish), renames)

describe('an object on its way elsewhere', () => {
  it('stays as it is when nothing is asked for, and is never changed in place', () => {
    const object = deployment()
    expect(map(object, {})).toEqual({ object: deployment(), notes: [], trouble: null })
    map(object, { labels: { x: 'y' }, registries: { 'images.example': 'mirror.example' } }, new Map(), 'elsewhere')
    expect(object).toEqual(deployment())
  })
  it('goes to its namespace, and bindings to the accounts there', () => {
    const binding: ClusterObject = {
      kind: 'RoleBinding',
      metadata: { name: 'reads', namespace: 'boarding' },
      subjects: [
        { kind: 'ServiceAccount', name: 'a', namespace: 'boarding' },
        { kind: 'ServiceAccount', name: 'b', namespace: 'other' },
      ],
    }
    const { object, notes } = map(binding, { namespaces: { boarding: 'gates' } }, new Map(), 'gates')
    expect(object.metadata.namespace).toBe('gates')
    expect(object.subjects).toMatchObject([{ namespace: 'gates' }, { namespace: 'other' }])
    expect(notes).toEqual([])
  })
  it('has other names, and refers to the others by theirs', () => {
    const renames: Renames = new Map(
      [
        ['Deployment', 'scanner'],
        ['ConfigMap', 'settings'],
        ['Secret', 'keys'],
        ['Secret', 'pull'],
        ['ServiceAccount', 'gatekeeper'],
        ['PersistentVolumeClaim', 'data'],
      ].map(([kind, name]) => [renameKey({ kind: kind!, name: name! }), `old-${name}`]),
    )
    const { object } = map(deployment(), {}, renames)
    expect(object.metadata.name).toBe('old-scanner')
    const text = JSON.stringify(object.spec)
    for (const name of ['settings', 'keys', 'pull', 'gatekeeper', 'data']) expect(text).toContain(`"old-${name}"`)
    expect(text).not.toMatch(/"(settings|keys|pull|gatekeeper|data)"/)
  })
  it('has other images by whole parts of their names, the longest first', () => {
    const registries = { 'images.example': 'mirror.example', 'images.example/boarding': 'mirror.example/gates', other: 'never' }
    const { object } = map(deployment(), { registries })
    expect(JSON.stringify(object.spec)).toContain('"mirror.example/gates/scanner:4"')
    expect(JSON.stringify(object.spec)).toContain('"other.example/init:1"')
  })
  it('has other labels, and the storage class that is there', () => {
    expect(map(deployment(), { labels: { copy: 'yes', team: null, none: null } }).object.metadata.labels).toEqual({
      app: 'scanner',
      copy: 'yes',
    })
    const set: ClusterObject = {
      kind: 'StatefulSet',
      metadata: { name: 'm', namespace: 'boarding' },
      spec: { volumeClaimTemplates: [{ spec: { storageClassName: 'berth' } }] },
    }
    expect(map(set, { classes: { berth: 'pontoon' } })).toMatchObject({
      object: { spec: { volumeClaimTemplates: [{ spec: { storageClassName: 'pontoon' } }] } },
      notes: ['storage class berth becomes pontoon'],
    })
  })
  it('is unplugged: nothing from outside leads to it', () => {
    const service: ClusterObject = {
      kind: 'Service',
      metadata: { name: 's', namespace: 'boarding' },
      spec: { type: 'LoadBalancer', externalTrafficPolicy: 'Local', ports: [{ port: 80, nodePort: 30080 }] },
    }
    expect(map(service, { exposure: 'unplug' }).object.spec).toEqual({ type: 'ClusterIP', ports: [{ port: 80 }] })
    const ingress: ClusterObject = { kind: 'Ingress', metadata: { name: 'i' }, spec: { ingressClassName: 'gate' } }
    expect(map(ingress, { exposure: 'unplug' }).object.spec).toEqual({ ingressClassName: 'unplugged' })
  })
  it('is changed by JSON Patch where kind and name fit, and says where a change can’t be made', () => {
    const change = (name: string, path: string) => [{ kind: 'Deployment', name, patch: [{ op: 'replace' as const, path, value: 1 }] }]
    expect(map(deployment(), { changes: change('scan*', '/spec/replicas') })).toMatchObject({
      object: { spec: { replicas: 1 } },
      notes: ['changed: replace /spec/replicas'],
    })
    expect(map(deployment(), { changes: change('other', '/spec/replicas') }).object.spec!.replicas).toBe(3)
    expect(map(deployment(), { changes: change('*', '/spec/nothing/here') }).trouble).toMatch(
      /^A change can’t be made to Deployment scanner: /,
    )
  })
})
