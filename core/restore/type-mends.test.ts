import { describe, expect, it } from 'vitest'
import type { StructureEntry } from './structure'
import { typeMends } from './type-mends'

const entry = (sql: string) => ({ sql }) as StructureEntry
const mendsOf = (then: string, now: string) =>
  typeMends(entry(then), entry(now))
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
    const then = domain(
      ` NOT NULL DEFAULT 0\n\tCONSTRAINT bright CHECK ((VALUE < (40)::numeric))\n\tCONSTRAINT "D im" CHECK ((VALUE > ('-30'::integer)::numeric))`,
    )
    const now = domain(`\n\tCONSTRAINT bright CHECK ((VALUE < (4)::numeric))\n\tCONSTRAINT odd CHECK ((VALUE <> (7)::numeric))`)
    expect(mendsOf(then, now)).toEqual([
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
    expect(mendsOf('CREATE TYPE sky.spot AS (\n\tra double precision\n);', 'CREATE TYPE sky.spot AS (\n\tra real\n);')).toBeNull()
  })
})
