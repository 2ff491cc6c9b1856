import { prepared } from './admission'
import { change, type Parts } from './parts'
import { tableOf, type KubeObject, type ResourceType } from './resources'

const NAMESPACES = { group: '', plural: 'namespaces' }

/** Namespaces come with what every one has, and go with all that is in them; what lost its owner goes too. */
export class Lifecycle {
  constructor(
    private readonly parts: Parts,
    private readonly types: () => ResourceType[],
  ) {}

  look(): void {
    for (const namespace of this.parts.objects.list(NAMESPACES)) {
      if (namespace.metadata.deletionTimestamp) this.empty(namespace)
      else this.furnish(namespace.metadata.name)
    }
    this.collect()
  }

  private furnish(namespace: string): void {
    const { objects, typeOf } = this.parts
    const ensure = (kind: string, name: string, body: Record<string, unknown>) => {
      const type = typeOf(kind)
      if (!objects.find(type, namespace, name))
        objects.create(type, prepared(type, namespace, { kind, metadata: { name }, ...body }, 'controller'))
    }
    ensure('ServiceAccount', 'default', {})
    ensure('ConfigMap', 'kube-root-ca.crt', {
      data: { 'ca.crt': '-----BEGIN CERTIFICATE-----\nof the stand-in\n-----END CERTIFICATE-----\n' },
    })
  }

  private empty(namespace: KubeObject): void {
    const { objects } = this.parts
    let left = 0
    for (const type of this.types()) {
      if (!type.namespaced) continue
      for (const object of objects.list(type, namespace.metadata.name)) {
        left++
        if (!object.metadata.deletionTimestamp) objects.remove(type, namespace.metadata.name, object.metadata.name, 1)
      }
    }
    if (left === 0 && objects.find(NAMESPACES, undefined, namespace.metadata.name)?.metadata.uid === namespace.metadata.uid)
      objects.drop(this.parts.typeOf('Namespace'), namespace)
  }

  /** A namespace that was asked to go is emptied first. */
  terminate({ metadata }: KubeObject): KubeObject {
    const namespace = this.parts.objects.remove(this.parts.typeOf('Namespace'), undefined, metadata.name)
    change(this.parts, 'Namespace', namespace, (current) => (current.status = { phase: 'Terminating' }))
    return namespace
  }

  private collect(): void {
    const { objects } = this.parts
    const alive = new Set([...objects.all()].map(({ metadata }) => metadata.uid))
    const types = new Map(this.types().map((type) => [tableOf(type), type]))
    for (const type of types.values()) {
      for (const { metadata } of objects.list(type)) {
        const owners = metadata.ownerReferences ?? []
        if (owners.length > 0 && !metadata.deletionTimestamp && owners.every(({ uid }) => !alive.has(uid)))
          objects.remove(type, metadata.namespace, metadata.name, 1)
      }
    }
  }
}
