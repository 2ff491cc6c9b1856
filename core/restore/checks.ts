import { bytesInWords, plural } from '../time/words'
import type { Blocker } from './blockers'
import { missingRoles, type Operation, type PlanInput } from './plan'
import { thingKey } from './sql'

/** One line of what was looked at before anything is done. */
export interface Check {
  id: 'privileges' | 'names' | 'extensions' | 'roles' | 'version' | 'space' | 'locks'
  outcome: 'ok' | 'advice' | 'missing'
  what: string
}

const BLOCKS: Record<Exclude<Check['id'], 'roles' | 'version' | 'locks'>, string[]> = {
  privileges: [
    'not_owner',
    'may_not_create',
    'may_not_create_schema',
    'may_not_create_database',
    'may_not_create_role',
    'superuser_needed',
  ],
  names: ['name_taken', 'name_twice', 'other_structure', 'no_key', 'other_key', 'others_depend', 'table_missing', 'need_missing'],
  extensions: ['extension_missing'],
  space: ['no_space'],
}

/** What the role can't do is told at each thing; here only how much that is. */
function privileges(denied: Operation[], check: Check): Check {
  if (denied.length === 0 || check.outcome !== 'ok') return check
  const names = denied.slice(0, 4).map(({ target: { schema, name } }) => (schema === '' ? name : `${schema}.${name}`))
  const more = denied.length > names.length ? ` and ${denied.length - names.length} more` : ''
  return {
    ...check,
    outcome: 'advice',
    what: `The connecting role can’t make all of ${names.join(', ')}${more}; what and why is told with each.`,
  }
}

/** What was looked at before anything is done, each with how it went. */
export function checksOf(operations: Operation[], input: PlanInput, blockers: Blocker[], denied: Operation[]): Check[] {
  const { target, manifest, wish, into, serverVersion } = input
  const active = operations.filter(({ verb }) => verb !== 'leave')
  if (active.length === 0) return []
  const of = (id: keyof typeof BLOCKS, fine: string): Check => {
    const found = blockers.filter(({ code }) => BLOCKS[id].includes(code))
    return found.length === 0 ? { id, outcome: 'ok', what: fine } : { id, outcome: 'missing', what: found[0]!.what }
  }
  const bytes = active.reduce((sum, operation) => sum + operation.bytes, 0)
  const space = target.free === null ? 'How much space is free there is not known; ' : `${bytesInWords(target.free)} are free there; `
  const extensions = active.filter(({ kind, verb }) => kind === 'extension' && verb === 'make').length
  const [before, now] = [Math.floor(serverVersion / 10000), target.version]
  const roles = missingRoles(operations, manifest, target, wish)
  const held = active.flatMap(({ verb, target: { schema, name } }) =>
    verb === 'make' ? [] : (target.tables.get(thingKey(schema, name))?.heldBy ?? []).map((who) => `${schema}.${name} is held by ${who}`),
  )
  const locks = active.some(({ verb, kind }) => verb !== 'make' && kind === 'table')
  return [
    privileges(denied, of('privileges', `The connecting role may do all of it on ${into.source}.`)),
    of('names', 'Names and structures fit.'),
    of('extensions', extensions > 0 ? `${plural(extensions, 'extension')} can be installed.` : 'No extension is missing.'),
    roles.length === 0
      ? { id: 'roles', outcome: 'ok', what: 'Every role that is named exists.' }
      : {
          id: 'roles',
          outcome: wish.makeRoles ? 'ok' : 'advice',
          what: `${roles.slice(0, 4).join(', ')} ${roles.length === 1 ? 'does' : 'do'} not exist there${wish.makeRoles ? ' and will be made' : ''}.`,
        },
    {
      id: 'version',
      outcome: before === 0 || before === now ? 'ok' : 'advice',
      what: before === 0 || before === now ? `PostgreSQL ${now}, as then.` : `PostgreSQL ${now}; then it was ${before}.`,
    },
    of('space', `${space}about ${bytesInWords(bytes * 2)} are needed.`),
    ...(locks
      ? [
          {
            id: 'locks' as const,
            outcome: held.length === 0 ? ('ok' as const) : ('advice' as const),
            what: held.length === 0 ? 'Nobody holds what is overwritten.' : `${held[0]}; it is waited for, 15 s at most.`,
          },
        ]
      : []),
  ]
}
