import fc from 'fast-check'
import { describe, expect, it } from 'vitest'
import { copyText } from '../content/copy-text'
import { fieldsOf } from '../compare/rows'
import { csvLine, insertWriter, jsonWriter, updateStatement } from './formats'

const value = fc.option(fc.string({ unit: 'binary' }), { nil: null })
const row = fc.array(value, { minLength: 1, maxLength: 6 })
const lineOf = (fields: (string | null)[]) => fields.map(copyText).join('\t')

it('COPY text goes both ways', () => {
  fc.assert(
    fc.property(row, (fields) => {
      expect(fieldsOf(lineOf(fields))).toEqual(fields)
    }),
  )
})

describe('CSV', () => {
  /** A reader as RFC 4180 has it. */
  function parse(text: string): (string | null)[] {
    const fields: (string | null)[] = []
    for (let at = 0; at < text.length;) {
      const match = /(?:"((?:[^"]|"")*)"|([^",\r\n]*))(,|\r\n)/y
      match.lastIndex = at
      const [whole, quoted, bare] = match.exec(text)!
      fields.push(quoted !== undefined ? quoted.replaceAll('""', '"') : bare === '' ? null : bare!)
      at += whole.length
    }
    return fields
  }

  it('gives back every value, and tells null from nothing', () => {
    fc.assert(
      fc.property(row, (fields) => {
        expect(parse(csvLine(lineOf(fields)))).toEqual(fields)
      }),
    )
  })
})

describe('JSON Lines', () => {
  const types = ['bigint', 'numeric', 'boolean', 'jsonb', 'text', 'double precision'].map((type, i) => ({ name: `c${i}`, type }))
  const write = jsonWriter(
    types.map(({ name }) => name),
    types,
  )

  it('keeps types that JSON knows, and every digit', () => {
    expect(write(lineOf(['9223372036854775807', '1.10', 't', '{"a": [1]}', 'x"\n', 'NaN']))).toBe(
      '{"c0":9223372036854775807,"c1":1.10,"c2":true,"c3":{"a": [1]},"c4":"x\\"\\n","c5":"NaN"}\n',
    )
  })

  it('is one line of JSON whatever the texts are', () => {
    fc.assert(
      fc.property(value, (note) => {
        const line = write(lineOf(['1', null, 'f', null, note, '0.5']))
        expect(line.indexOf('\n')).toBe(line.length - 1)
        expect(JSON.parse(line)).toEqual({ c0: 1, c1: null, c2: false, c3: null, c4: note, c5: 0.5 })
      }),
    )
  })
})

describe('SQL of single rows', () => {
  it('quotes names and values', () => {
    const insert = insertWriter({ schema: 'a"b', name: 't' }, ['id', 'no"te'])
    expect(insert(lineOf(['1', "it's"]))).toBe(`INSERT INTO "a""b"."t" ("id", "no""te") OVERRIDING SYSTEM VALUE VALUES ('1', 'it''s');\n`)
    expect(insertWriter({ schema: 'a', name: 't' }, [])('')).toBe('INSERT INTO "a"."t" DEFAULT VALUES;\n')
    expect(updateStatement({ schema: 's', name: 't' }, ['id', 'fare'], ['7', null], ['id'], ['fare'])).toBe(
      `UPDATE "s"."t" SET "fare" = NULL WHERE "id" = '7';`,
    )
  })
})
