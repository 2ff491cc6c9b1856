import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { canonical, cleaned } from './clean'

const written = {
  uid: 'u',
  resourceVersion: '7',
  generation: 2,
  creationTimestamp: '2026-11-01T00:00:00Z',
  managedFields: [{ manager: 'kubectl' }],
}

describe('cleaned', () => {
  it('drops what a cluster writes itself, and nothing else', () => {
    const service = {
      apiVersion: 'v1',
      kind: 'Service',
      metadata: { ...written, name: 'gate', namespace: 'boarding', labels: { app: 'gate' }, annotations: { note: 'ours' } },
      spec: { clusterIP: '10.96.0.7', clusterIPs: ['10.96.0.7'], ports: [{ port: 80 }], selector: { app: 'gate' } },
      status: { loadBalancer: {} },
    }
    const before = structuredClone(service)
    expect(cleaned(service)).toEqual({
      apiVersion: 'v1',
      kind: 'Service',
      metadata: { name: 'gate', namespace: 'boarding', labels: { app: 'gate' }, annotations: { note: 'ours' } },
      spec: { ports: [{ port: 80 }], selector: { app: 'gate' } },
    })
    expect(service).toEqual(before)
    expect(cleaned({ ...service, spec: { clusterIP: 'None' } }).spec).toEqual({ clusterIP: 'None' })
  })

  it('knows what controllers fill in, by kind', () => {
    const claim = {
      kind: 'PersistentVolumeClaim',
      metadata: {
        ...written,
        name: 'data',
        finalizers: ['kubernetes.io/pvc-protection', 'own/one'],
        annotations: { 'pv.kubernetes.io/bound-by-controller': 'yes' },
      },
      spec: { volumeName: 'pvc-1', storageClassName: 'berth' },
    }
    expect(cleaned(claim)).toEqual({
      kind: 'PersistentVolumeClaim',
      metadata: { name: 'data', finalizers: ['own/one'] },
      spec: { storageClassName: 'berth' },
    })
    const job = {
      kind: 'Job',
      metadata: { name: 'report', labels: { 'batch.kubernetes.io/controller-uid': 'u', app: 'report' } },
      spec: {
        selector: { matchLabels: {} },
        template: { metadata: { labels: { 'controller-uid': 'u', 'job-name': 'report', app: 'report' } }, spec: {} },
      },
    }
    expect(cleaned(job)).toEqual({
      kind: 'Job',
      metadata: { name: 'report', labels: { app: 'report' } },
      spec: { template: { metadata: { labels: { app: 'report' } }, spec: {} } },
    })
    const pod = {
      kind: 'Pod',
      metadata: { name: 'p' },
      spec: { nodeName: 'n', volumes: [{ name: 'kube-api-access-x' }, { name: 'data' }] },
    }
    expect(cleaned(pod).spec).toEqual({ volumes: [{ name: 'data' }] })
  })

  it('is clean at once, whatever the object', () => {
    fc.assert(
      fc.property(
        fc.constantFrom('Service', 'Pod', 'Job', 'ConfigMap', 'Namespace'),
        fc.dictionary(fc.string(), fc.jsonValue()),
        (kind, data) => {
          const once = cleaned({ kind, metadata: { ...written, name: 'x' }, data, spec: { replicas: 2 } })
          expect(cleaned(once)).toEqual(once)
        },
      ),
    )
  })
})

describe('canonical', () => {
  it('is the same for equal objects, and reads back as they are', () => {
    fc.assert(
      fc.property(fc.jsonValue(), (value) => {
        expect(JSON.parse(canonical(value))).toEqual(JSON.parse(JSON.stringify(value)))
        const turned =
          typeof value === 'object' && value !== null && !Array.isArray(value) ? Object.fromEntries(Object.entries(value).reverse()) : value
        expect(canonical(turned)).toBe(canonical(value))
      }),
    )
  })
})
