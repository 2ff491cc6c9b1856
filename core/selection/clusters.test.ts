import { describe, expect, it } from 'vitest'
import { objectPath, volumePath, type Thing } from '../things/thing'
import { explain, keptOut } from './explain'
import { labelsIn, patternTrouble, select, type Rule } from './rules'

const namespace = (name: string, labels: Record<string, string> = {}): Thing => ({
  path: `pier/${name}`,
  kind: 'namespace',
  labels,
  facts: {},
})
const object = (home: string, group: string, kind: string, name: string, labels: Record<string, string> = {}): Thing => ({
  path: objectPath('pier', home, group, kind, name),
  kind: 'object',
  labels,
  facts: {},
})
const volume = (home: string, name: string): Thing => ({ path: volumePath('pier', home, name), kind: 'volume', labels: {}, facts: {} })
let id = 0
const rule = (act: Rule['act'], kind: Rule['kind'], pattern: string, labels?: string): Rule => ({
  id: String(id++),
  act,
  kind,
  pattern,
  ...(labels ? { labels } : {}),
})

const set = object('boarding', 'apps', 'StatefulSet', 'manifest', { app: 'manifest' })
const secret = object('boarding', '', 'Secret', 'keys')
const data = volume('boarding', 'data')
const kiosk = object('kiosk', 'apps', 'Deployment', 'kiosk', { app: 'kiosk' })
const wide = object(undefined as never, 'storage.k8s.io', 'StorageClass', 'berth')
const things = [namespace('boarding', { team: 'gates' }), set, secret, data, namespace('kiosk', { team: 'desks' }), kiosk, wide]
const taken = (...rules: Rule[]) => select(rules, things).taken

describe('rules over clusters', () => {
  it('take namespaces with all that is in them, by name or by their labels, and nothing that belongs to none', () => {
    expect(taken(rule('take', 'namespace', 'pier/*'))).toEqual([set, secret, data, kiosk])
    expect(taken(rule('take', 'namespace', 'pier/*', 'team=gates'))).toEqual([set, secret, data])
    expect(taken(rule('take', 'object', 'pier/@cluster/storage.k8s.io/*/*'))).toEqual([wide])
  })

  it('take or leave by group, kind, name, own labels, and single volumes', () => {
    const all = rule('take', 'namespace', 'pier/*')
    expect(taken(all, rule('leave', 'object', 'pier/*/core/Secret/*'), rule('leave', 'volume', 'pier/boarding/volume/data'))).toEqual([
      set,
      kiosk,
    ])
    expect(taken(rule('take', 'object', 'pier/*/apps/*/*', 'app in (kiosk)'))).toEqual([kiosk])
    expect(taken(all, rule('leave', 'object', 'pier/*/*/*/*', '!app'))).toEqual([set, data, kiosk])
  })

  it('of databases name nothing in a cluster, and the other way round', () => {
    expect(taken(rule('take', 'database', '*/*'))).toEqual([])
    expect(select([rule('take', 'namespace', '*/*')], [{ path: 'db/a/b/c', kind: 'table', labels: {}, facts: {} }]).taken).toEqual([])
  })

  it('count what no rule names where they speak of the place', () => {
    const { unnamed } = select([rule('take', 'object', 'pier/boarding/apps/*/*')], things)
    expect(unnamed).toEqual([secret, data])
  })

  it('say what is wrong with them', () => {
    expect(patternTrouble(rule('take', 'namespace', 'pier/*', 'a=b c'))).toContain('not a requirement')
    expect(patternTrouble(rule('take', 'database', 'pier/*', 'a=b'))).toContain('clusters')
    expect(patternTrouble(rule('take', 'volume', 'pier/boarding/disk/data'))).toContain('third name')
    expect(patternTrouble(rule('take', 'object', 'pier/boarding/apps'))).toContain('needs 5 names')
  })
})

describe('keptOut', () => {
  it('lists what only labels keep out of a rule, with what decides over it instead', () => {
    const rules = [rule('take', 'namespace', 'pier/*', 'team=gates'), rule('take', 'object', 'pier/kiosk/apps/*/*')]
    expect(keptOut(rules, rules[0]!.id, things)).toEqual({
      count: 1,
      things: [
        { path: kiosk.path, why: ['team is desks, not gates'], now: { id: rules[1]!.id, act: 'take', pattern: 'pier/kiosk/apps/*/*' } },
      ],
    })
    expect(keptOut(rules, rules[1]!.id, things)).toEqual({ count: 0, things: [] })
  })
})

describe('explain', () => {
  it('tells of each rule why it does or does not decide, and which labels would change that', () => {
    const rules = [
      rule('take', 'namespace', 'pier/*'),
      rule('take', 'namespace', 'pier/*', 'team=desks'),
      rule('leave', 'object', 'pier/*/apps/*/*', 'app=manifest'),
      rule('leave', 'object', 'pier/*/*/*/*', 'debug,app=manifest'),
      rule('take', 'object', 'pier/kiosk/*/*/*'),
    ]
    expect(explain(rules, set, labelsIn(things)).map(({ outcome, why }) => [outcome, ...why])).toEqual([
      ['overruled'],
      ['labels', 'team is gates, not desks'],
      ['decides'],
      ['labels', 'it has no label debug'],
      ['other'],
    ])
    expect(explain([rule('take', 'namespace', 'pier/*', 'squad')], set, labelsIn(things))[0]!.why).toEqual([
      'the namespace boarding has no label squad',
    ])
  })
})
