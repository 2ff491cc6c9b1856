import { clusterPart } from './cluster'
import { looking } from './looking'
import { logging } from './logging'
import { moving } from './moving'
import { planning } from './planning'
import { pruning } from './pruning'

// Every figure is measured beside a baseline of the same run. A part is chosen by its name: `bin/bench looking`.

const PARTS = { moving, looking, logging, cluster: clusterPart, planning, pruning }
const part = process.argv[2] ?? 'moving'
if (!Object.hasOwn(PARTS, part)) throw new Error(`there is no part “${part}”; there are ${Object.keys(PARTS).join(' and ')}`)
await PARTS[part as keyof typeof PARTS]()
