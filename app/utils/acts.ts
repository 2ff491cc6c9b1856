import type { Act } from '~~/core/quiesce/sequence'

/** An act of a kind that nothing is said of yet. */
export function blankAct(kind: Act['kind']): Act {
  if (kind === 'sql') return { kind, statement: '' }
  if (kind === 'exec') return { kind, selector: '', container: '', pods: 'one', active: '', command: [] }
  if (kind === 'http') return { kind, method: 'POST', url: '', body: '' }
  if (kind === 'program') return { kind, program: '', arguments: [] }
  return { kind, workload: 'StatefulSet', name: '', replicas: 0 }
}
