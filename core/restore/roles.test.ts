import { describe, expect, it } from 'vitest'
import { renameRoles, rolesIn } from './roles'

describe('roles in statements of the dump utility', () => {
  const statements = {
    'GRANT SELECT(amount),UPDATE(amount) ON TABLE ledger.entry TO deck_hand WITH GRANT OPTION;': ['deck_hand'],
    'REVOKE ALL ON FUNCTION yard.double(integer) FROM PUBLIC;': [],
    'CREATE POLICY own ON ledger.entry AS RESTRICTIVE TO deck_hand, "Odd role" USING ((owner IN ( SELECT x FROM yard.t))) WITH CHECK (true);':
      ['deck_hand', 'Odd role'],
    'ALTER DEFAULT PRIVILEGES FOR ROLE purser IN SCHEMA ledger GRANT USAGE ON SEQUENCES  TO deck_hand;': ['purser', 'deck_hand'],
    'ALTER TABLE yard.ship OWNER TO purser;': ['purser'],
    "CREATE USER MAPPING FOR purser SERVER far OPTIONS (\n    password 'to deck_hand'\n);": ['purser'],
    'SET SESSION AUTHORIZATION purser;': ['purser'],
  }

  it('are found, and nothing else is taken for one', () => {
    for (const [sql, roles] of Object.entries(statements)) expect(rolesIn(sql)).toEqual(roles)
  })

  it('are replaced by the mapping, and all else stays as it was', () => {
    const roles = { deck_hand: 'crew', purser: 'Odd "one"' }
    for (const sql of Object.keys(statements)) {
      const renamed = renameRoles(sql, roles)
      expect(rolesIn(renamed)).toEqual(rolesIn(sql).map((role) => roles[role as keyof typeof roles] ?? role))
      expect(renamed.replaceAll('"Odd ""one"""', 'purser').replaceAll('"crew"', 'deck_hand')).toBe(sql)
    }
    expect(renameRoles('GRANT ALL ON SCHEMA a TO purser;', {})).toBe('GRANT ALL ON SCHEMA a TO purser;')
  })
})
