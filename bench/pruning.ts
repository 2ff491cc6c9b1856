import { randomBytes, randomUUID } from 'node:crypto'
import { sql } from 'kysely'
import { bytesInWords, countInWords } from '../core/time/words'
import { openStore } from '../engine/catalog/stores'
import { ContentWriter } from '../engine/store/writer'
import { Bench, best, report, server } from './support'

// What a prune frees, in how much memory, and what it costs a backup that runs beside it.

const CHUNKS = Number(process.env.CHUNKS ?? 1_000_000)
const PER_SEGMENT = 5000
const ROWS = 400_000
const AT_ONCE = 500

/** Segments of log whose content lies side by side in the same packs: every other one is to go. */
async function fill(bench: Bench, chunks: number): Promise<void> {
  const { engine } = bench
  const store = await openStore(engine, { name: 'store' })
  const [vessel, source] = await Promise.all([
    engine.db.selectFrom('vessel').select('id').executeTakeFirstOrThrow(),
    engine.db.selectFrom('source').select('id').executeTakeFirstOrThrow(),
  ])
  for (let from = 0; from < chunks; from += 2 * PER_SEGMENT) {
    const writer = new ContentWriter(store, randomUUID())
    const names: [string[], string[]] = [[], []]
    for (let i = 0; i < 2 * PER_SEGMENT; i += AT_ONCE) {
      const put = Array.from({ length: AT_ONCE }, () => writer.put(new Uint8Array(randomBytes(96))))
      ;(await Promise.all(put)).forEach(({ name }, n) => names[n % 2]!.push(name))
    }
    const manifests = await Promise.all(
      names.map(async (of) => {
        const text = JSON.stringify({ format: 1, kind: 'log', chunks: of.map((name) => ({ name })), structure: null })
        return (await writer.put(new Uint8Array(Buffer.from(text)))).name
      }),
    )
    await writer.flush()
    await engine.db.transaction().execute(async (tx) => {
      await writer.commit(tx)
      for (const [i, manifest] of manifests.entries()) {
        const now = new Date()
        await tx
          .insertInto('artifact')
          .values({
            ...{
              id: randomUUID(),
              run_id: randomUUID(),
              vessel_id: vessel.id,
              source_id: source.id,
              store_id: store.id,
              member: 'db/bench',
            },
            ...{ kind: 'log', parent: null, from_position: '0/1', position: '0/2', from_at: now, at: now, era: String(i) },
            ...{ rows: 0, bytes: 0, stored: 0, manifest: JSON.stringify([manifest]) },
          })
          .execute()
      }
    })
  }
}

const stored = async ({ engine }: Bench) =>
  (await sql<{ bytes: number }>`select coalesce(sum(bytes), 0)::float8 as bytes from pack`.execute(engine.db)).rows[0]!.bytes

/** Prunes after every other segment went. Returns which share of the dead bytes came free, and how much memory it took. */
async function freed(bench: Bench, chunks: number): Promise<{ share: number; memory: number; seconds: number }> {
  await fill(bench, chunks)
  const before = await stored(bench)
  await sql`delete from artifact where era = '1'`.execute(bench.engine.db)
  ;(globalThis as { gc?: () => void }).gc?.()
  const resident = process.memoryUsage.rss()
  bench.peak = 0
  const { seconds } = await bench.run('prune', { store: 'store' })
  const share = (before - (await stored(bench))) / (before / 2)
  return { share, memory: (bench.peak - resident) / 1e6, seconds }
}

export async function pruning(): Promise<void> {
  const prepare = () =>
    server.psql(
      'bench',
      `create table leg (id int primary key, note text); insert into leg select g, md5(g::text) from generate_series(1, ${ROWS}) g`,
    )
  await Bench.with(2, prepare, async (bench) => {
    // Both hold more than the pack that is put together at a time.
    const few = await freed(bench, CHUNKS / 2)
    const many = await freed(bench, CHUNKS)
    console.log(
      `${few.seconds.toFixed(1)} s for half of it, ${many.seconds.toFixed(1)} s for all; ${few.memory.toFixed(0)} and ${many.memory.toFixed(0)} MB more`,
    )
    bench.tell(
      `After a prune of ${countInWords(CHUNKS)} pieces of content, half of them dead, of the dead bytes free`,
      many.share * 100,
      95,
      '%',
    )
    bench.tell(
      'Memory beyond what was resident, against half of the store',
      Math.max(1, many.memory) / Math.max(1, few.memory),
      2,
      '×',
      true,
    )
    const changed = () => server.psql('bench', 'update leg set note = md5(note)')
    const alone = await best(async () => (changed(), (await bench.run('backup')).seconds))
    let isOver = false
    const others = (async () => {
      while (!isOver) await bench.run('prune', { store: 'store' })
    })()
    const beside = await best(async () => (changed(), (await bench.run('backup')).seconds))
    isOver = true
    await others
    bench.tell('A backup beside prunes that never end, against alone', beside / alone, 1.2, '×', true)
    report(
      'Pruning',
      `${countInWords(CHUNKS)} pieces of content, ${bytesInWords(await stored(bench))} after it, and a table of ${countInWords(ROWS)} rows`,
      bench.figures,
    )
  })
}
