import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { identifierOf, noRenaming, quoteIdentifier, rename, thingKey, tokensOf } from './sql'

const renaming = (() => {
  const all = noRenaming()
  all.things.set(thingKey('sales', 'booking_leg'), { schema: 'sales', name: 'booking_leg_before' })
  all.things.set(thingKey('sales', 'booking_leg_id_seq'), { schema: 'sales', name: 'booking_leg_before_id_seq' })
  all.things.set(thingKey('Odd "schema"', 'Tisch größe'), { schema: 'new', name: 'x' })
  all.indexes.set('booking_leg_pkey', 'booking_leg_before_pkey')
  all.schemas.set('sales', 'sales_copy')
  return all
})()
const renamed = (sql: string) => rename(sql, renaming)

describe('tokensOf', () => {
  it('loses nothing of any text', () => {
    fc.assert(
      fc.property(fc.string({ unit: fc.constantFrom(...`ab'"$.;- \n/*eE\\1ü`), maxLength: 40 }), (text) => {
        expect(
          tokensOf(text)
            .map((token) => token.text)
            .join(''),
        ).toBe(text)
      }),
    )
  })

  it('reads back every identifier that is quoted', () => {
    fc.assert(
      fc.property(
        fc.string({ minLength: 1 }).filter((name) => !name.includes('\0')),
        (name) => {
          const [token, ...others] = tokensOf(quoteIdentifier(name))
          expect(others).toEqual([])
          expect(identifierOf(token)).toBe(name)
        },
      ),
    )
  })
})

describe('rename', () => {
  it('finds names however they are written', () => {
    expect(renamed('CREATE TABLE sales.booking_leg (id integer)')).toBe('CREATE TABLE "sales"."booking_leg_before" (id integer)')
    expect(renamed('ALTER TABLE ONLY "Odd ""schema"""."Tisch größe" ADD x')).toBe('ALTER TABLE ONLY "new"."x" ADD x')
    expect(renamed("DEFAULT nextval('sales.booking_leg_id_seq'::regclass)")).toBe(
      `DEFAULT nextval('"sales"."booking_leg_before_id_seq"'::regclass)`,
    )
  })

  it('renames indexes and constraints where a statement names them, and not columns of the same name', () => {
    expect(renamed('ADD CONSTRAINT booking_leg_pkey PRIMARY KEY (booking_leg_pkey)')).toBe(
      'ADD CONSTRAINT "booking_leg_before_pkey" PRIMARY KEY (booking_leg_pkey)',
    )
    expect(renamed('ALTER TABLE sales.booking_leg CLUSTER ON booking_leg_pkey')).toContain('CLUSTER ON "booking_leg_before_pkey"')
    expect(renamed('REPLICA IDENTITY USING INDEX booking_leg_pkey')).toContain('USING INDEX "booking_leg_before_pkey"')
  })

  it('leaves strings, comments, function bodies and other things as they are', () => {
    for (const sql of [
      "COMMENT ON TABLE x IS 'sales.booking_leg'",
      '-- sales.booking_leg\nSELECT 1',
      '$$ SELECT * FROM sales.booking_leg $$',
      '$body$ sales.booking_leg $$ $body$',
      'SELECT other.booking_leg, sales.booking',
      "E'it\\'s sales.booking_leg'",
    ]) {
      expect(renamed(sql)).toBe(sql)
    }
  })

  it('renames schemas only behind SCHEMA', () => {
    expect(renamed('CREATE SCHEMA sales; SELECT sales')).toBe('CREATE SCHEMA "sales_copy"; SELECT sales')
  })
})
