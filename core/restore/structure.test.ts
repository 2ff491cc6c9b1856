import { describe, expect, it } from 'vitest'
import { parseStructure, rootsOf, withParts } from './structure'

const header = (id: number, catalog: number, oid: number, needs: number[], name: string, type: string, owner = 'harbour') =>
  [
    '--',
    `-- TOC entry ${id} (class ${catalog} OID ${oid})`,
    ...(needs.length > 0 ? [`-- Dependencies: ${needs.join(' ')}`] : []),
    `-- Name: ${name}; Type: ${type}; Schema: sales; Owner: ${owner}`,
    '-- Data Pos: 0',
    '--',
    '',
    '',
  ].join('\n')

const dump = [
  '--\n-- PostgreSQL database dump\n--\n\nSET lock_timeout = 0;\n\n',
  header(1, 1259, 100, [], 'leg', 'TABLE'),
  'CREATE TABLE sales.leg (\n    id integer\n);\n\n\nALTER TABLE sales.leg OWNER TO harbour;\n\n',
  header(2, 0, 0, [1], 'TABLE leg', 'COMMENT'),
  "COMMENT ON TABLE sales.leg IS 'a\n--\n-- b; c';\n\n\n",
  header(3, 1259, 101, [], 'odd "; name', 'TABLE'),
  'SET default_table_access_method = heap;\n\nCREATE TABLE sales."odd ""; name" (x int);\n\n\n',
  header(4, 1259, 103, [1], 'leg_x', 'INDEX'),
  'CREATE INDEX leg_x ON sales.leg USING btree (id);\n\n\n',
  header(5, 0, 0, [4], 'INDEX leg_x', 'COMMENT'),
  "COMMENT ON INDEX sales.leg_x IS 'x';\n\n\n",
  header(6, 2606, 104, [3, 1], 'odd fk', 'FK CONSTRAINT'),
  'ALTER TABLE ONLY sales.odd ADD CONSTRAINT fk FOREIGN KEY (x) REFERENCES sales.leg(id);\n\n\n',
  header(7, 2620, 105, [3, 9], 'odd t', 'TRIGGER'),
  'CREATE TRIGGER t BEFORE INSERT ON sales.odd FOR EACH ROW EXECUTE FUNCTION sales.f();\n\n\n',
  '-- Completed on 2026-11-24 03:54:51 UTC\n\n--\n-- PostgreSQL database dump complete\n--\n\n\\unrestrict x\n',
].join('')

const parsed = parseStructure(dump).map((entry) => ({
  ...entry,
  of: ({ 4: 100, 6: 101, 7: 101 } as Record<number, number>)[entry.id] ?? null,
  refers: entry.id === 6 ? 100 : null,
}))

describe('parseStructure', () => {
  it('reads every entry, with its statement and its owner apart', () => {
    expect(parsed.map((entry) => entry.type)).toEqual(['TABLE', 'COMMENT', 'TABLE', 'INDEX', 'COMMENT', 'FK CONSTRAINT', 'TRIGGER'])
    expect(parsed[0]).toMatchObject({
      id: 1,
      catalog: 1259,
      oid: 100,
      needs: [],
      schema: 'sales',
      owner: 'harbour',
      sql: 'CREATE TABLE sales.leg (\n    id integer\n);',
      ownerSql: 'ALTER TABLE sales.leg OWNER TO harbour;',
    })
    expect(parsed[1]!.sql).toBe("COMMENT ON TABLE sales.leg IS 'a\n--\n-- b; c';")
    expect(parsed[2]!).toMatchObject({ name: 'odd "; name', sql: 'CREATE TABLE sales."odd ""; name" (x int);', ownerSql: null })
    expect(parsed.at(-1)!.sql.endsWith('sales.f();')).toBe(true)
  })
})

describe('withParts', () => {
  const types = (...roots: number[]) => withParts(parsed, roots).map((entry) => entry.id)
  it('takes what belongs to a thing, also by way of another part, and foreign keys from both ends', () => {
    expect(types(1)).toEqual([1, 2, 4, 5, 6])
    expect(types(3)).toEqual([3, 6, 7])
  })
})

describe('tablespaces', () => {
  const placed = (text: string) => parseStructure(text).map(({ name, tablespace }) => [name, tablespace])

  it('go on from where the dump switches them, for what lies in one', () => {
    const text = [
      header(1, 1259, 100, [], 'plain', 'TABLE'),
      'CREATE TABLE sales.plain ();\n\n\nSET default_tablespace = "Fast disk";\n\n',
      header(2, 1259, 101, [], 'quick', 'TABLE'),
      'CREATE TABLE sales.quick ();\n\n\n',
      header(3, 1259, 102, [], 'looks', 'VIEW'),
      'CREATE VIEW sales.looks AS SELECT 1;\n\n\n',
      header(4, 1259, 103, [], 'quick_index', 'INDEX'),
      "CREATE INDEX quick_index ON sales.quick USING btree (x);\n\n\nSET default_tablespace = '';\n\n",
      header(5, 1259, 104, [], 'plain_again', 'TABLE'),
      'CREATE TABLE sales.plain_again ();\n\n\n',
    ].join('')
    expect(placed(text)).toEqual([
      ['plain', undefined],
      ['quick', 'Fast disk'],
      ['looks', undefined],
      ['quick_index', 'Fast disk'],
      ['plain_again', undefined],
    ])
    expect(parseStructure(text).every(({ sql }) => !sql.includes('SET '))).toBe(true)
  })
})

describe('what belongs to what', () => {
  it('is the thing that an entry is a part of, and members of a publication are its own', () => {
    const entries = parseStructure(
      [
        header(1, 1259, 100, [], 'leg', 'TABLE'),
        header(2, 1259, 101, [], 'leg_number', 'SEQUENCE'),
        header(3, 0, 0, [1], 'TABLE leg', 'COMMENT'),
        header(4, 6104, 7, [], 'news', 'PUBLICATION'),
        header(5, 6106, 8, [4, 1], 'news leg', 'PUBLICATION TABLE'),
      ].join('SELECT 1;\n\n'),
    )
    const sequences = [{ schema: 'sales', name: 'leg_number', last: '1', called: true, ownedBy: ['sales', 'leg'] as [string, string] }]
    expect([...rootsOf(entries, sequences)]).toEqual([
      [1, 1],
      [2, 1],
      [3, 1],
      [4, 4],
      [5, 4],
    ])
    expect(withParts(entries, [1]).map(({ id }) => id)).toEqual([1, 3])
    expect(withParts(entries, [4]).map(({ id }) => id)).toEqual([4, 5])
  })
})
