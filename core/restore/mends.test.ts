import { describe, expect, it } from 'vitest'
import { structure, table } from '../../tests/support/manifests'
import { mendsOf, needsRebuild } from './mends'

const before = structure({
  owner: 'purser',
  comment: 'then',
  rowSecurity: 'forced',
  grants: ['reader: SELECT', 'reader: UPDATE (note)'],
  policies: [{ name: 'own', definition: 'permissive r reader,clerk (id > 1)' }],
  indexes: [{ name: 'i', definition: 'CREATE INDEX i ON sales.leg USING btree (note) clustered' }],
  triggers: [{ name: 't', definition: 'CREATE TRIGGER t BEFORE INSERT ON sales.leg EXECUTE FUNCTION f() enabled D' }],
})
const words = (now: typeof before) => mendsOf(table('leg', 1, { structure: before }), now, {}).map((mend) => mend.words)

describe('a table that stands', () => {
  it('is made again only where its columns, keys or place in a tree are others', () => {
    expect(needsRebuild(before, structure({ owner: 'other' }))).toBe(false)
    expect(needsRebuild(before, structure({ persistence: 'unlogged' }))).toBe(true)
    expect(needsRebuild(before, { ...before, accessMethod: 'columnar' })).toBe(true)
    expect(needsRebuild(before, { ...before, constraints: [{ name: 'k', definition: 'PRIMARY KEY (id)' }] })).toBe(true)
    expect(needsRebuild(before, { ...before, constraints: [{ name: 'k', definition: 'CHECK ((id > 0))' }] })).toBe(false)
    const partition = { ...before, partitionOf: '"sales"."all"' }
    expect(needsRebuild(partition, { ...partition, indexes: [] })).toBe(true)
  })

  it('has nothing to be mended where nothing differs, whatever the order of a policy’s roles', () => {
    expect(words(before)).toEqual([])
    expect(words({ ...before, policies: [{ name: 'own', definition: 'permissive r clerk,reader (id > 1)' }] })).toEqual([])
  })

  it('names each difference, and drops what stands in the way before rows are loaded', () => {
    const now = {
      ...before,
      owner: 'thief',
      comment: null,
      rowSecurity: 'off' as const,
      indexes: [],
      triggers: [],
      policies: [{ name: 'new', definition: 'permissive * public true' }],
    }
    expect(words(now)).toEqual([
      'index i is made again',
      'trigger t is made again',
      'policy new is taken off',
      'policy own is made again',
      'owner back to purser',
      'row security forced again',
      'rights of reader as then',
      'comment as then',
      'clustering as then',
    ])
    const mends = mendsOf(table('leg', 1, { structure: before }), now, {})
    expect(mends.find((mend) => mend.words === 'policy own is made again')!.after).toEqual([
      'CREATE POLICY "own" ON "sales"."leg" AS PERMISSIVE FOR SELECT TO clerk, reader USING ((id > 1))',
    ])
    expect(mends.find((mend) => mend.words === 'trigger t is made again')!.after.at(-1)).toBe(
      'ALTER TABLE "sales"."leg" DISABLE TRIGGER "t"',
    )
    expect(mends.find((mend) => mend.words === 'rights of reader as then')!.after).toContain(
      'GRANT UPDATE (note) ON TABLE "sales"."leg" TO "reader"',
    )
    expect(mends.find((mend) => mend.words === 'policy new is taken off')!.before).toEqual(['DROP POLICY "new" ON "sales"."leg"'])
  })
})
