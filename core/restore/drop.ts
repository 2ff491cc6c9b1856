import { quoteIdentifier, thingKey } from './sql'
import type { StructureEntry } from './structure'

/** Routines, and operators with their classes and families, which are told apart by what they are for. */
const SIGNED = /^ALTER ((?:OPERATOR|FUNCTION|PROCEDURE|AGGREGATE) [\s\S]*) OWNER TO /
/** What is dropped by the words with which it is made, up to where its definition begins. */
const BY_SIGNATURE: Record<string, RegExp> = {
  CAST: /^CREATE (CAST \([^)]*\))/,
  TRANSFORM: /^CREATE (TRANSFORM FOR [\s\S]*?) \(/,
  'USER MAPPING': /^CREATE (USER MAPPING FOR [\s\S]*?)(?: OPTIONS \(|;)/,
}

/** What a text is said of: taken away, nothing is said. */
const SAID = /^((?:COMMENT ON|SECURITY LABEL) [\s\S]*? IS )E?'(?:[^'\\]|''|\\.)*';?\s*$/

/**
 * The statements that take away a thing without rows, and nothing that needs it. Default privileges have no such
 * statement; those that take back what was given are returned, the last first.
 */
export function droppedBy({ type, schema, name, sql, ownerSql }: StructureEntry): string[] {
  if (type === 'DEFAULT ACL')
    return sql
      .split(/;\s*\n/)
      .map(inverse)
      .filter(Boolean)
      .reverse()
  if (type === 'COMMENT' || type === 'SECURITY LABEL') return [sql.replace(SAID, '$1NULL')]
  // Without its slot's name it is dropped here alone: the server that it comes from is not asked.
  if (type === 'SUBSCRIPTION') {
    const subscription = `SUBSCRIPTION ${quoteIdentifier(name)}`
    return [`ALTER ${subscription} DISABLE`, `ALTER ${subscription} SET (slot_name = NONE)`, `DROP ${subscription}`]
  }
  const signature = BY_SIGNATURE[type]?.exec(sql)?.[1] ?? SIGNED.exec(ownerSql ?? '')?.[1]
  // A view that stood upon something that is back already may have gone with it, and waits for its turn.
  const named = `${type.replace(/^SHELL /, '')}${type.endsWith('VIEW') ? ' IF EXISTS' : ''} ${schema === null ? quoteIdentifier(name) : thingKey(schema, name)}`
  return [`DROP ${signature ?? named}`]
}

/** Takes back what one statement about default privileges gave or took. */
function inverse(statement: string): string {
  const plain = statement.trim().replace(/;$/, '')
  if (/ REVOKE /.test(plain)) return plain.replace(/ REVOKE ([\s\S]*) FROM ([\s\S]*)$/, ' GRANT $1 TO $2')
  return plain.replace(/ GRANT ([\s\S]*) TO ([\s\S]*?)(?: WITH GRANT OPTION)?$/, ' REVOKE $1 FROM $2')
}
