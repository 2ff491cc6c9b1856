import { describe } from 'vitest'
import { accessible } from './steps/accessible'
import { clusters } from './steps/clusters'
import { everyMoment } from './steps/every-moment'
import { firstPath } from './steps/first-path'
import { holdAndReturn } from './steps/hold-and-return'
import { lookInside } from './steps/look-inside'
import { setAndFound } from './steps/set-and-found'
import { whereTo } from './steps/where-to'

// The ways of a person through the real application, one after the other: each goes on from what the one before left.
describe('from nothing to a proven restore', firstPath)
describe('looking inside', lookInside)
describe('where things go', whereTo)
describe('every moment', everyMoment)
describe('a cluster', clusters)
describe('quiesced, lost, and restored', holdAndReturn)
describe('what is set and looked for', setAndFound)
describe('every page, for everybody', accessible)
