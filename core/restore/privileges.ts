import type { DatabaseManifest } from '../content/manifest'
import type { Group, Operation, PlanInput } from './plan'
import { rolesIn } from './roles'
import { tokensOf } from './sql'
import { entryWords, isOptional, isTableEntry, rootsOf, withParts, type StructureEntry } from './structure'
import type { TargetState } from './target'

// What a role that is no superuser can't do, told thing by thing before anything is done. What PostgreSQL asks for is in
// its reference, under the statement that makes each kind of thing.

/** Kinds that only a superuser makes, with what is asked for in words. */
const SUPERUSER: Record<string, string> = {
  'ACCESS METHOD': 'access methods',
  'OPERATOR CLASS': 'operator classes',
  'OPERATOR FAMILY': 'operator families',
  'TEXT SEARCH PARSER': 'text search parsers',
  'TEXT SEARCH TEMPLATE': 'text search templates',
  'FOREIGN DATA WRAPPER': 'foreign data wrappers',
  'EVENT TRIGGER': 'event triggers',
  'SHELL TYPE': 'types of their own',
  TRANSFORM: 'transforms',
}

/** A part that a role can't make, and why. Without one that is fatal the thing itself can't be made. */
interface Denied {
  /** The part that it is of; empty for the whole thing. */
  what: string
  why: string
  fatal: boolean
}

const LARGE_OBJECTS: Denied = {
  what: '',
  why: 'Large objects can’t be read back there, so they are not restored: let the connecting role select from pg_catalog.pg_largeobject.',
  fatal: true,
}

/**
 * What the connecting role can't do, in words for each operation: what only a superuser makes, what would have to be
 * given to others, and what needs something of that, or comes back together with it.
 */
export function privilegesOf(operations: Operation[], groups: Group[], input: PlanInput): Map<Operation, string[]> {
  const refusals = new Map<Operation, string[]>()
  if (input.target.may.superuser) return refusals
  const tell = (operation: Operation, words: string[]) => refusals.set(operation, [...(refusals.get(operation) ?? []), ...words])
  const lost = new Map<Operation, string>()
  // Whoever makes a role is no member of it by that.
  const there = new Set([...input.target.roles, ...operations.flatMap(({ kind, target }) => (kind === 'role' ? [target.name] : []))])
  for (const operation of operations) {
    const denied = deniedOf(operation, there, input)
    if (denied.length > 0) tell(operation, deniedWords(denied))
    if (denied.some(({ fatal }) => fatal)) lost.set(operation, operation.target.name)
  }
  const needs = needsBetween(operations, input.manifest)
  const together = groups.map(({ tables, inner }) => [...tables, ...inner].map((i) => operations[i]!))
  for (let before = -1; before !== lost.size;) {
    before = lost.size
    const follow = (operation: Operation, other: Operation | undefined, words: (name: string) => string) => {
      if (!other || lost.has(operation) || operation.verb === 'leave') return
      lost.set(operation, lost.get(other)!)
      tell(operation, [words(other.target.name)])
    }
    for (const operation of operations)
      follow(
        operation,
        (needs.get(operation) ?? []).find((other) => lost.has(other)),
        (name) => `It needs ${name}, which the connecting role can’t make.`,
      )
    for (const members of together) {
      const other = members.find((member) => lost.has(member))
      for (const operation of members) follow(operation, other, (name) => `It comes back together with ${name}, which can’t be made.`)
    }
  }
  return refusals
}

/** Which operations need which others that are made. */
function needsBetween(operations: Operation[], manifest: DatabaseManifest): Map<Operation, Operation[]> {
  const roots = rootsOf(manifest.entries, manifest.sequences)
  const made = operations.filter(({ how }) => how === 'create' || how === 'rebuild')
  const byRoot = new Map(made.flatMap((operation) => rootsIn(operation, manifest).map((id) => [id, operation] as const)))
  const needs = new Map<Operation, Operation[]>()
  for (const entry of manifest.entries) {
    const operation = byRoot.get(roots.get(entry.id)!)
    if (!operation || isOptional(entry) || entry.type === 'FK CONSTRAINT') continue
    const others = entry.needs.flatMap((id) => byRoot.get(roots.get(id) ?? id) ?? []).filter((other) => other !== operation)
    if (others.length > 0) needs.set(operation, [...(needs.get(operation) ?? []), ...others])
  }
  return needs
}

function rootsIn(operation: Operation, manifest: DatabaseManifest): number[] {
  if (operation.kind !== 'table') return operation.entries
  const table = manifest.tables.find(({ path }) => path === operation.path)
  return manifest.entries.flatMap((entry) => (isTableEntry(entry) && entry.oid === table?.oid ? [entry.id] : []))
}

function deniedOf(operation: Operation, there: Set<string>, { manifest, target, wish }: PlanInput): Denied[] {
  if (operation.verb === 'leave' || operation.how === null) return []
  if (operation.kind === 'large-objects' && !target.may.readLargeObjects) return [LARGE_OBJECTS]
  const picked = new Set(rootsIn(operation, manifest))
  return withParts(manifest.entries, picked).flatMap((entry) => {
    const never = reasonFor(entry, target)
    if (never !== null) return [{ what: entryWords(entry), why: never, fatal: picked.has(entry.id) }]
    const role = ownerReason(entry, { ...target, roles: there }, wish.roles)
    return role === null ? [] : [{ what: entryWords(entry), why: role, fatal: false }]
  })
}

/** Why a role that is no superuser can't make something; null when nothing stands against it. */
function reasonFor({ type, sql, schema, name }: StructureEntry, target: TargetState): string | null {
  const only = (what: string) => `Only a superuser can make ${what}.`
  if (SUPERUSER[type]) return only(SUPERUSER[type])
  // One that is only named, or that has functions of its own to read it.
  if (type === 'TYPE' && (/^\s*INPUT = /m.test(sql) || /^CREATE TYPE [^\n(]+;\s*$/.test(sql))) return only('types of their own')
  if (type === 'CAST' && / WITHOUT FUNCTION/.test(sql)) return only('casts without a function')
  if (type === 'PROCEDURAL LANGUAGE' && !/ TRUSTED /.test(sql.split('\n')[0]!)) return only('languages that are not trusted')
  if (type === 'PROCEDURAL LANGUAGE' && / HANDLER /.test(sql)) return only('languages with handlers of their own')
  if (/^(FUNCTION|PROCEDURE)$/.test(type)) return routineReason(sql, only)
  if (type === 'AGGREGATE' && /STYPE = internal/.test(sql)) return only('aggregates over internal states')
  if (type === 'PUBLICATION' && / FOR ALL TABLES/.test(sql)) return only('publications of all tables')
  if (type === 'PUBLICATION TABLES IN SCHEMA') return only('publications of whole schemas')
  if (type === 'EXTENSION' && !target.trusted.has(name)) return `Only a superuser can install the extension ${name}.`
  if (type === 'ACL' && schema === 'pg_catalog') return 'Only a superuser gives rights on what is the server’s own.'
  return null
}

/** What it can't give to a role, or in the name of one. */
function ownerReason(entry: StructureEntry, target: TargetState, roles: Record<string, string>): string | null {
  if (entry.type === 'DEFAULT ACL' || entry.ownerSql !== null) return memberReason(entry.owner, target, roles)
  return aclReason(entry, target, roles)
}

function routineReason(sql: string, only: (what: string) => string): string | null {
  const words = tokensOf(sql).flatMap(({ kind, text }) => (kind === 'word' || kind === 'quoted' ? [text.toLowerCase()] : []))
  const language = words[words.indexOf('language') + 1] ?? ''
  if (language === 'c' || language === 'internal') return only(`functions in the language ${language}`)
  return words.includes('leakproof') && !words.includes('not') ? only('functions that are leakproof') : null
}

/** Something can be given to a role only by one that is a member of it. */
function memberReason(owner: string | null, target: TargetState, roles: Record<string, string>): string | null {
  const role = roles[owner ?? ''] ?? owner
  if (role === null || !target.roles.has(role) || target.memberOf.has(role)) return null
  return `It can’t be given to ${role}, of which the connecting role is no member.`
}

/** Rights that a role gave on by its own right, which only a member of it can do again. */
function aclReason({ type, sql }: StructureEntry, target: TargetState, roles: Record<string, string>): string | null {
  if (type !== 'ACL') return null
  const grantors = [...sql.matchAll(/SET SESSION AUTHORIZATION [^;]+;/g)].flatMap(([statement]) => rolesIn(statement))
  return grantors.length > 0 && !grantors.every((role) => target.memberOf.has(roles[role] ?? role))
    ? `Rights that ${grantors.join(', ')} gave can be given in their name by a superuser alone.`
    : null
}

/** The same reason is told once, with what it is of. */
function deniedWords(denied: Denied[]): string[] {
  const words = new Map<string, string[]>()
  for (const { what, why } of denied) words.set(why, [...(words.get(why) ?? []), ...(what ? [what] : [])])
  return [...words].map(([why, parts]) => {
    const more = parts.length > 3 ? ` and ${parts.length - 3} more` : ''
    return parts.length === 0 ? why : `${why} That is of ${parts.slice(0, 3).join(', ')}${more}.`
  })
}
