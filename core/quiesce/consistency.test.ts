import { describe, expect, it } from 'vitest'
import { consistencyOf, type MemberFacts } from './consistency'

const hold = { from: 1000, to: 3000 }
const gate = (more: Partial<MemberFacts> = {}): MemberFacts => ({
  member: 'pier/boarding',
  sound: false,
  captured: { from: 1200, to: 2000 },
  steps: [{ name: 'freeze', stops: false, trouble: null }],
  ...more,
})
const sales = (more: Partial<MemberFacts> = {}): MemberFacts => ({ ...gate(), member: 'db/bookings', sound: true, ...more })

describe('the consistency of a point', () => {
  it('is held together when all members were captured in one hold that held each of them', () => {
    expect(consistencyOf([gate(), sales()], hold)).toMatchObject({
      consistency: 'held together',
      why: 'All 2 members were captured in one hold.',
      members: [{ why: 'Held for 2.0 s; captured 0.2 s after the hold was reached, in 0.8 s.' }, { consistency: 'held together' }],
    })
    expect(consistencyOf([gate()], hold).why).toBe('It was captured while it was held.')
  })
  it('is that of the worst member, with its reason', () => {
    expect(consistencyOf([gate(), sales({ steps: [] })], hold)).toMatchObject({
      consistency: 'each sound',
      why: 'db/bookings: Nothing quiesces it. Its snapshot is consistent in itself.',
      members: [{ consistency: 'held together' }, { consistency: 'each sound' }],
    })
    expect(consistencyOf([gate({ steps: [] }), sales()], hold)).toMatchObject({
      consistency: 'as found',
      members: [{ missed: false }, { missed: false }],
    })
  })
  it.each([
    [
      'a step failed',
      gate({ steps: [{ name: 'freeze', stops: false, trouble: 'It ended with 3.' }] }),
      hold,
      'Its step “freeze” failed: It ended with 3.',
    ],
    [
      'the hold ended while it was read',
      gate({ captured: { from: 1200, to: 4500 } }),
      hold,
      'The hold ended 1.5 s before it was captured.',
    ],
    ['the capture began too early', gate({ captured: { from: 900, to: 1500 } }), hold, 'Its capture began before the hold.'],
    ['another step kept the hold from being whole', gate(), null, 'not every step of the sequence came about'],
  ])('is as found when %s', (_, facts, stretch, words) => {
    const { consistency, why, members } = consistencyOf([facts], stretch)
    expect([consistency, members[0]!.missed]).toEqual(['as found', true])
    expect(why).toContain(words)
  })
  it('tells a hold that stopped everything from one that only kept it from writing', () => {
    const steps = [{ name: 'stop', stops: true, trouble: null }]
    expect(consistencyOf([gate({ steps })], hold).members[0]!.why).toMatch(/^Stopped for 2\.0 s/)
    expect(consistencyOf([gate()], hold).members[0]!.why).toMatch(/^Held for 2\.0 s/)
  })
  it('says of volumes that nothing held how they were read, and never that files read in use are as after a crash', () => {
    const read = (...volumes: NonNullable<MemberFacts['volumes']>) => consistencyOf([gate({ steps: [], volumes }), sales()], hold)
    const [shot, used, rested] = [
      { name: 'maps', read: 'snapshot' },
      { name: 'data', read: 'in use' },
      { name: 'old', read: 'at rest' },
    ] as const
    expect(read(shot, used)).toMatchObject({
      consistency: 'in use',
      why: 'pier/boarding: Nothing quiesces it. The volume data was read while programs had it: files may be of different moments.',
    })
    expect(read(shot, rested)).toMatchObject({
      consistency: 'as found',
      why: 'pier/boarding: Nothing quiesces it. Its volumes were read from snapshots, each as after a crash. No program had the volume old when reading began and ended.',
    })
    expect(read().why).toContain('It is as after a crash.')
    // Held, it does not matter how it was read.
    expect(consistencyOf([gate({ volumes: [used] })], hold).consistency).toBe('held together')
  })
  it('says of what was computed that it was not captured', () => {
    expect(consistencyOf([sales({ captured: null })], null)).toMatchObject({ consistency: 'each sound', members: [{ missed: false }] })
  })
})
