import { describe, expect, it } from 'vitest'
import fc from 'fast-check'
import { differences, fixedFields, holds } from './immutable'

const json = fc.jsonValue({ maxDepth: 3 })

describe('what an object holds', () => {
  it('is everything that is wanted, whatever the cluster has added', () => {
    expect(holds({ spec: { a: 1, list: [{ x: 1 }] } }, { spec: { a: 1, list: [{ x: 1, y: 2 }], more: true } })).toBe(true)
    expect(holds({ spec: { list: [1, 2] } }, { spec: { list: [1, 2, 3] } })).toBe(false)
    expect(holds({ labels: {} }, {})).toBe(true)
    expect(holds({ a: null }, {})).toBe(true)
    expect(holds({ a: 0 }, {})).toBe(false)
  })
  it('is in itself, and differs from what differs', () => {
    fc.assert(
      fc.property(json, json, (a, b) => {
        expect(holds(a, a)).toBe(true)
        expect(differences(a, a)).toEqual([])
        // Whatever differs is told; what is told to be equal is held.
        if (differences(a, b).length === 0) expect(holds(a, b)).toBe(true)
      }),
    )
  })
})

describe('fields that differ', () => {
  it('are an object’s own, whatever they are called', () => {
    expect(differences({ valueOf: 'a' }, {})).toEqual([{ field: 'valueOf', before: 'a', now: null }])
    expect(differences([null], [])).toEqual([{ field: '[0]', before: 'null', now: null }])
    expect(holds({ constructor: 'a' }, {})).toBe(false)
  })
  it('are told one by one, by where they stand', () => {
    const before = { spec: { containers: [{ image: 'a:1', env: [] }], replicas: 2 }, data: { 'app.conf': 'x' } }
    const now = { spec: { containers: [{ image: 'a:2', env: [] }, { image: 'b' }], replicas: 2 }, data: { 'app.conf': 'y', more: 'z' } }
    expect(differences(before, now)).toEqual([
      { field: 'spec.containers[0].image', before: 'a:1', now: 'a:2' },
      { field: 'spec.containers[1]', before: null, now: '{"image":"b"}' },
      { field: 'data["app.conf"]', before: 'x', now: 'y' },
      { field: 'data.more', before: null, now: 'z' },
    ])
  })
})

describe('fields that nobody may change', () => {
  const object = (kind: string, fields: object) => ({ kind, metadata: { name: 'x' }, ...fields })
  it('are told by kind, where they differ', () => {
    const set = (serviceName: string) => object('StatefulSet', { spec: { serviceName, replicas: 1 } })
    expect(fixedFields(set('a'), set('b'))).toEqual(['spec.serviceName'])
    expect(fixedFields(set('a'), object('StatefulSet', { spec: { serviceName: 'a', replicas: 5 } }))).toEqual([])
    expect(fixedFields(object('ConfigMap', { data: { a: '1' } }), object('ConfigMap', { data: { a: '2' }, immutable: true }))).toEqual([
      'data',
    ])
    expect(fixedFields(object('ConfigMap', { data: { a: '1' } }), object('ConfigMap', { data: { a: '2' } }))).toEqual([])
  })
})
