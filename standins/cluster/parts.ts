import type { Objects } from './objects'
import type { KubeObject, ResourceType } from './resources'

/** What controllers work with: the objects, the types, and writing without asking whether anybody saw it. */
export interface Parts {
  objects: Objects
  types(): ResourceType[]
  typeOf(kind: string): ResourceType
  folder: string
}

/** Changes an object as a controller does: the newest one, its status or what belongs to the cluster itself. */
export function change(
  parts: Parts,
  kind: string,
  object: KubeObject,
  edit: (object: KubeObject) => void,
  part: 'spec' | 'status' = 'status',
): void {
  const type = parts.typeOf(kind)
  const newest = parts.objects.find(type, object.metadata.namespace, object.metadata.name)
  if (!newest || newest.metadata.uid !== object.metadata.uid) return
  const edited = structuredClone(newest)
  edit(edited)
  parts.objects.update(type, edited, part)
}

export const refTo = ({ apiVersion, kind, metadata }: KubeObject) => ({
  apiVersion,
  kind,
  name: metadata.name,
  uid: metadata.uid,
  controller: true,
  blockOwnerDeletion: true,
})

export const ownedBy = (objects: KubeObject[], owner: KubeObject) =>
  objects.filter(({ metadata }) => metadata.ownerReferences?.some(({ uid }) => uid === owner.metadata.uid))
