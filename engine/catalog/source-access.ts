import { createHash } from 'node:crypto'
import { VesselError } from '../../core/errors'
import type { EngineContext } from '../context'
import { adapterOf, type SourceAccess } from '../sources/adapter'
import type { ClusterSecret, ClusterSettings } from '../sources/kubernetes/access'
import type { PostgresSettings } from '../sources/postgres/connect'
import type { ProbeReport } from '../sources/source'
import { discoverSource, openAccess, rowById, secretOf } from './sources'

/** How a source is to be reached; null for the password, token or key that is kept of it. */
export type Reach = { settings: PostgresSettings; password: string | null } | { settings: ClusterSettings; secret: ClusterSecret | null }

/** How a source is reached now, without what signs in. */
export const settingsOf = async (engine: EngineContext, id: string): Promise<PostgresSettings | ClusterSettings> =>
  openAccess(engine, await rowById(engine, id)).settings

/**
 * How each source is reached, by its id, as a digest. What goes on for long (watching, following a log) begins anew
 * where it is another one.
 */
export async function reaches(engine: EngineContext): Promise<Map<string, string>> {
  const rows = await engine.db.selectFrom('source').select(['id', 'settings', 'sealed_secret']).execute()
  return new Map(
    rows.map(({ id, settings, sealed_secret: sealed }) => {
      const digest = createHash('sha256').update(JSON.stringify(settings))
      return [id, digest.update(sealed ?? '').digest('hex')]
    }),
  )
}

/** Tests another way to reach a source, and saves nothing. */
export async function tryReach(engine: EngineContext, id: string, reach: Reach): Promise<ProbeReport> {
  const access = withKept(openAccess(engine, await rowById(engine, id)), reach)
  return adapterOf(access).probe(engine.clock.now())
}

/**
 * Changes how a source is reached: a password or token that ran out, an address that moved. All that is known of it,
 * and its points, stay.
 * @param replaces that it may be another server or cluster, which takes the place of the one that was
 * @throws VesselError `source_unusable`, `another_system`, `secret_missing`; nothing is saved then
 */
export async function changeReach(engine: EngineContext, id: string, reach: Reach, replaces = false): Promise<void> {
  const row = await rowById(engine, id)
  const access = withKept(openAccess(engine, row), reach)
  const report = await adapterOf(access).probe(engine.clock.now())
  if (!report.usable) {
    const missing = report.findings.find(({ outcome }) => outcome === 'missing')!
    throw new VesselError('source_unusable', {
      what: missing.detail,
      touched: `How ${row.name} is reached stays as it was.`,
      next: missing.mend ?? 'Mend it and test again.',
    })
  }
  if (!replaces && isAnother(row.probe, report)) throw anotherSystem(row.name)
  await engine.db
    .updateTable('source')
    .set({
      settings: JSON.stringify(access.settings),
      sealed_secret: engine.secrets.seal(secretOf(access), `source ${id}`),
      probe: JSON.stringify(report),
    })
    .where('id', '=', id)
    .execute()
  await discoverSource(engine, id)
}

/** What signs in goes to the address that it was given for, and to no other. */
function withKept(before: SourceAccess, reach: Reach): SourceAccess {
  if (before.kind === 'postgres' && 'password' in reach) {
    const { settings, password } = reach
    const stays = before.settings.host === settings.host && before.settings.port === settings.port
    if (password === null && !stays && before.password !== '') throw secretMissing(before.name, 'password')
    return { kind: 'postgres', name: before.name, settings, password: password ?? before.password }
  }
  if (before.kind === 'kubernetes' && 'secret' in reach) {
    const { settings, secret } = reach
    if (secret === null && before.settings.server !== settings.server) throw secretMissing(before.name, 'token')
    return { kind: 'kubernetes', name: before.name, settings, secret: secret ?? before.secret }
  }
  throw new VesselError('another_kind', {
    what: `${before.name} is a source of another kind.`,
    touched: 'Nothing was tried or saved.',
    next: 'Connect the other one as a source of its own.',
    status: 409,
  })
}

function isAnother(before: ProbeReport | null, now: ProbeReport): boolean {
  const [was, is] = [before?.server?.systemId ?? 'unknown', now.server?.systemId ?? 'unknown']
  return was !== 'unknown' && is !== 'unknown' && was !== is
}

const anotherSystem = (name: string) =>
  new VesselError('another_system', {
    what: `What answers there is not the one that ${name} was so far.`,
    touched: `How ${name} is reached stays as it was.`,
    next: 'Connect it as a source of its own; or say that it takes the place of the one that was.',
    status: 409,
  })

const secretMissing = (name: string, what: string) =>
  new VesselError('secret_missing', {
    what: `The ${what} of ${name} is kept for its present address, and sent to no other.`,
    touched: 'Nothing was tried or saved.',
    next: `Give the ${what} again.`,
    status: 422,
  })
