import { describe, expect, it } from 'vitest'
import type { StructureEntry } from './structure'
import { typeMends } from './type-mends'

const entry = (sql: string) => ({ sql }) as StructureEntry
const mendsOf = (before: string, now: string) =>
  typeMends(entry(before), entry(now))
    ?.map(({ after, last = [] }) => [...after, ...last.map((sql) => `at last: ${sql}`)])
    .flat() ?? null

const labels = (...all: string[]) => `CREATE TYPE sky."Odd name" AS ENUM (\n    ${all.map((label) => `'${label}'`).join(',\n    ')}\n);`
const domain = (rest: string) => `CREATE DOMAIN sky.mag AS numeric(6,3)${rest};`

describe('an enum that stands', () => {
  it('gets the labels that it lacks, each in its place', () => {
    expect(mendsOf(labels('a', 'b', "c''d", 'e'), labels('b', 'e'))).toEqual([
      `ALTER TYPE sky."Odd name" ADD VALUE 'a' BEFORE 'b'`,
      `ALTER TYPE sky."Odd name" ADD VALUE 'c''d' AFTER 'b'`,
    ])
    expect(mendsOf(labels('a', 'b'), 'CREATE TYPE sky."Odd name" AS ENUM (\n);')).toEqual([
      `ALTER TYPE sky."Odd name" ADD VALUE 'a'`,
      `ALTER TYPE sky."Odd name" ADD VALUE 'b' AFTER 'a'`,
    ])
  })

  it('gets back the names of labels that were renamed', () => {
    expect(mendsOf(labels('a', 'rough'), labels('a', 'wild'))).toEqual([`ALTER TYPE sky."Odd name" RENAME VALUE 'wild' TO 'rough'`])
  })

  it('stays where a label was added since, or they stand in another order', () => {
    expect(mendsOf(labels('a', 'b'), labels('a', 'b', 'c'))).toBeNull()
    expect(mendsOf(labels('a', 'b'), labels('b', 'a'))).toBeNull()
    expect(mendsOf(labels('a', 'b', 'c'), labels('c', 'a'))).toBeNull()
  })
})

describe('a domain that stands', () => {
  it('forbids no more than then before rows come, and no less when all are there', () => {
    const before = domain(
      ` NOT NULL DEFAULT 0\n\tCONSTRAINT bright CHECK ((VALUE < (40)::numeric))\n\tCONSTRAINT "D im" CHECK ((VALUE > ('-30'::integer)::numeric))`,
    )
    const now = domain(`\n\tCONSTRAINT bright CHECK ((VALUE < (4)::numeric))\n\tCONSTRAINT odd CHECK ((VALUE <> (7)::numeric))`)
    expect(mendsOf(before, now)).toEqual([
      'ALTER DOMAIN sky.mag SET DEFAULT 0',
      'at last: ALTER DOMAIN sky.mag SET NOT NULL',
      'ALTER DOMAIN sky.mag DROP CONSTRAINT bright',
      'ALTER DOMAIN sky.mag DROP CONSTRAINT odd',
      'at last: ALTER DOMAIN sky.mag ADD CONSTRAINT bright CHECK ((VALUE < (40)::numeric))',
      `at last: ALTER DOMAIN sky.mag ADD CONSTRAINT "D im" CHECK ((VALUE > ('-30'::integer)::numeric))`,
    ])
    expect(mendsOf(domain(''), domain(' NOT NULL DEFAULT 0'))).toEqual([
      'ALTER DOMAIN sky.mag DROP DEFAULT',
      'ALTER DOMAIN sky.mag DROP NOT NULL',
    ])
  })

  it('stays where another type lies beneath it', () => {
    expect(mendsOf('CREATE DOMAIN sky.mag AS text;', 'CREATE DOMAIN sky.mag AS integer;')).toBeNull()
  })
})

describe('a row type that stands', () => {
  const row = (...attributes: string[]) => `CREATE TYPE sky.spot AS (\n\t${attributes.join(',\n\t')}\n);`

  it('gets its attributes back in their order, and loses those of since', () => {
    expect(mendsOf(row('x integer', 'y text COLLATE "C"', 'z numeric(4,2)'), row('x integer', 'w date', 'z numeric(4,2)'))).toEqual([
      'ALTER TYPE sky.spot DROP ATTRIBUTE w CASCADE',
      'ALTER TYPE sky.spot DROP ATTRIBUTE z CASCADE',
      'ALTER TYPE sky.spot ADD ATTRIBUTE y text COLLATE "C" CASCADE',
      'ALTER TYPE sky.spot ADD ATTRIBUTE z numeric(4,2) CASCADE',
    ])
    expect(mendsOf(row('ra double precision'), row('ra real'))).toEqual([
      'ALTER TYPE sky.spot DROP ATTRIBUTE ra CASCADE',
      'ALTER TYPE sky.spot ADD ATTRIBUTE ra double precision CASCADE',
    ])
  })

  it('gets back the names of attributes that were renamed, with what they hold', () => {
    expect(mendsOf(row('x integer', '"Y y" text'), row('x integer', 'v text'))).toEqual([
      'ALTER TYPE sky.spot RENAME ATTRIBUTE v TO "Y y" CASCADE',
    ])
    // Which became which can't be told where they changed places.
    expect(mendsOf(row('x text', 'y text'), row('y text', 'x text'))).toEqual([
      'ALTER TYPE sky.spot DROP ATTRIBUTE y CASCADE',
      'ALTER TYPE sky.spot ADD ATTRIBUTE y text CASCADE',
    ])
  })
})
