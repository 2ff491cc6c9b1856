/** What a version of PostgreSQL changed that structures of an earlier one may meet, in words. From its release notes. */
const CHANGES: { version: number; what: string }[] = [
  { version: 14, what: 'postfix operators are gone, and functions over arrays such as array_append take anycompatiblearray' },
  { version: 15, what: 'only the owner of a database may create in its schema public, until others are granted it' },
  {
    version: 15,
    what: 'unique constraints can say NULLS NOT DISTINCT, publications can name rows, columns and schemas, views can be SECURITY INVOKER',
  },
  { version: 16, what: 'a role with CREATEROLE may manage only roles that it was given' },
  { version: 17, what: 'collations have a built-in provider, and functions in indexes and materialized views run with a safe search_path' },
  { version: 18, what: 'generated columns are virtual unless they say STORED, and not-null constraints have names' },
]

/**
 * What changes between the version that was backed up and the one it goes to (major versions). Nothing for equal
 * ones.
 */
export function versionChanges(earlier: number, target: number): string[] {
  if (earlier === 0 || earlier === target) return []
  const [low, high] = earlier < target ? [earlier, target] : [target, earlier]
  const between = CHANGES.filter(({ version }) => version > low && version <= high)
  const newer = earlier < target
  const first = newer
    ? `The target is PostgreSQL ${target}, newer than ${earlier} then. What no longer holds there fails, each on the receipt.`
    : `The target is PostgreSQL ${target}, older than ${earlier} then. Statements that it does not know fail, each on the receipt.`
  return [first, ...between.map(({ version, what }) => `${newer ? 'Since' : 'Not before'} ${version}: ${what}.`)]
}
