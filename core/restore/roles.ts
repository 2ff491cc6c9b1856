import { identifierOf, quoteIdentifier, tokensOf, type Token } from './sql'

// Words behind which a statement of the dump utility names roles, up to the next word that is none.
const BEFORE_ROLES = new Set(['TO', 'FROM', 'ROLE', 'AUTHORIZATION', 'MAPPING FOR'])
const NOT_A_ROLE = new Set(['PUBLIC', 'CURRENT_USER', 'CURRENT_ROLE', 'SESSION_USER'])

const wordsBefore = (tokens: Token[], i: number, count: number) =>
  tokens
    .slice(Math.max(0, i - count), i)
    .map(({ kind, text }) => (kind === 'word' ? text.toUpperCase() : '?'))
    .join(' ')

/** Calls back for every token that names a role in a statement about owners, rights, policies or default privileges. */
function eachRole(sql: string, visit: (token: Token, role: string) => void): Token[] {
  const tokens = tokensOf(sql)
  const significant = tokens.filter(({ kind }) => kind !== 'space')
  for (let i = 1; i < significant.length; i++) {
    const [word, twoWords] = [1, 2].map((back) => wordsBefore(significant, i, back))
    if (!BEFORE_ROLES.has(word!) && !BEFORE_ROLES.has(twoWords!)) continue
    for (; i < significant.length; i += 2) {
      const role = identifierOf(significant[i])
      const qualified = significant[i + 1]?.text === '.'
      if (role === undefined || qualified) break
      if (!NOT_A_ROLE.has(significant[i]!.text.toUpperCase())) visit(significant[i]!, role)
      if (significant[i + 1]?.text !== ',') break
    }
  }
  return tokens
}

/** Types of entries whose statements name roles, apart from the owner. */
const NAMES_ROLES = new Set(['ACL', 'DEFAULT ACL', 'POLICY', 'USER MAPPING'])
export const namesRoles = (type: string) => NAMES_ROLES.has(type)

export function rolesIn(sql: string): string[] {
  const roles = new Set<string>()
  eachRole(sql, (_, role) => roles.add(role))
  return [...roles]
}

/** Writes a statement with other roles in place of those of then. */
export function renameRoles(sql: string, roles: Record<string, string>): string {
  if (Object.keys(roles).length === 0) return sql
  return eachRole(sql, (token, role) => {
    if (Object.hasOwn(roles, role)) token.text = quoteIdentifier(roles[role]!)
  })
    .map(({ text }) => text)
    .join('')
}
