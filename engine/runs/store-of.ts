import type { VesselDefinition } from '../../core/plan/definition'

/** The store that a run works with, by its name: the one it was told to look after, or that in which its vessel keeps its points. */
export function storeOf({ params, definition }: { params: Record<string, unknown>; definition: VesselDefinition }): string {
  return typeof params.store === 'string' ? params.store : definition.store
}
