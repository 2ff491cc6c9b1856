import { createHash } from 'node:crypto'
import { appendFileSync, existsSync, mkdirSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs'
import { createServer, connect } from 'node:net'
import { join } from 'node:path'

// A sample application that is really hurt by a careless copy: it appends passengers to a journal, and then says in
// an index how much of the journal counts, and what its sum is. The two must agree, and are written in two steps.
//
//   manifest-service serve <folder> [ms between entries]             the service itself
//   manifestctl hold | release | status                              holds the service still; lets it go on
//   manifestctl check <folder>                                       whether journal and index agree
//   manifestctl verify <folder>                                      the same, while the service is held for it

const CONTROL = join(process.env.CONTAINER_ROOT ?? process.cwd(), 'control.sock')
const EVERY_MS = 20
/** How long the second step waits for the first one, so that somebody can copy between them. */
const PAUSE_MS = 8
/** A manifest begins anew after so many passengers. */
const MOST_ENTRIES = 2000
const CONTROL_PATIENCE_MS = 10_000

const journalOf = (folder: string) => join(folder, 'manifest.journal')
const indexOf = (folder: string) => join(folder, 'manifest.index')
const sumOf = (bytes: Buffer) => createHash('sha256').update(bytes).digest('hex')

interface Index {
  entries: number
  bytes: number
  sum: string
}

function check(folder: string): { entries: number; trouble: string | null } {
  if (!existsSync(indexOf(folder))) return { entries: 0, trouble: existsSync(journalOf(folder)) ? 'there is a journal and no index' : null }
  const journal = readFileSync(journalOf(folder))
  const text = readFileSync(indexOf(folder), 'utf8')
  let index: Index
  try {
    index = JSON.parse(text) as Index
  } catch {
    return { entries: 0, trouble: 'the index is cut off' }
  }
  const entries = journal.toString().split('\n').length - 1
  if (index.bytes !== journal.length) return { entries, trouble: `the journal has ${journal.length} bytes, the index says ${index.bytes}` }
  if (index.sum !== sumOf(journal)) return { entries, trouble: 'the sum of the journal is not that of the index' }
  return { entries, trouble: null }
}

/** After a crash the journal may be ahead of the index: what no index speaks of was never told to anybody. */
function recover(folder: string): void {
  if (!existsSync(journalOf(folder)) || !existsSync(indexOf(folder))) return
  const journal = readFileSync(journalOf(folder))
  const index = JSON.parse(readFileSync(indexOf(folder), 'utf8')) as Index
  if (journal.length > index.bytes && index.sum === sumOf(journal.subarray(0, index.bytes)))
    writeFileSync(journalOf(folder), journal.subarray(0, index.bytes))
}

/** Two steps, with time for somebody to copy between them. */
class Service {
  private held = false
  private writing = false
  private waiting: (() => void)[] = []
  private entries: number

  constructor(
    private readonly folder: string,
    private readonly everyMs: number,
  ) {
    mkdirSync(folder, { recursive: true })
    recover(folder)
    const { entries, trouble } = check(folder)
    if (trouble) throw new Error(`refuses to start: ${trouble}`)
    this.entries = entries
  }

  begin(): void {
    setInterval(() => void this.write(), this.everyMs)
  }

  private async write(): Promise<void> {
    if (this.held || this.writing) return
    this.writing = true
    if (this.entries >= MOST_ENTRIES) this.beginAnew()
    const number = ++this.entries
    appendFileSync(journalOf(this.folder), `${number}\tpassenger ${(number * 7919) % 100_003}\tgate ${number % 4}\n`)
    await new Promise((resolve) => setTimeout(resolve, PAUSE_MS))
    const journal = readFileSync(journalOf(this.folder))
    const index: Index = { entries: number, bytes: journal.length, sum: sumOf(journal) }
    writeFileSync(`${indexOf(this.folder)}.new`, JSON.stringify(index))
    renameSync(`${indexOf(this.folder)}.new`, indexOf(this.folder))
    this.writing = false
    for (const settled of this.waiting.splice(0)) settled()
  }

  private beginAnew(): void {
    this.entries = 0
    rmSync(indexOf(this.folder))
    rmSync(journalOf(this.folder))
  }

  async hold(): Promise<string> {
    this.held = true
    if (this.writing) await new Promise<void>((resolve) => this.waiting.push(resolve))
    return `held=true\nentries=${this.entries}\n`
  }

  release(): string {
    this.held = false
    return 'held=false\n'
  }

  status(): string {
    return `held=${this.held}\nentries=${this.entries}\n`
  }
}

function serve(folder: string, everyMs: number): void {
  const service = new Service(folder, everyMs)
  rmSync(CONTROL, { force: true })
  createServer((socket) => {
    socket.on('error', () => undefined)
    socket.on('data', async (bytes) => {
      const asked = bytes.toString().trim()
      if (asked === 'hold') socket.end(await service.hold())
      else socket.end(asked === 'release' ? service.release() : service.status())
    })
  }).listen(CONTROL)
  // Asked to end, it ends what it has begun.
  process.on('SIGTERM', () => void service.hold().then(() => process.exit(0)))
  service.begin()
  console.log(`keeps its manifest in ${folder}`)
}

/** Asks the service that runs here to stand still, if there is one, checks, and lets it go on. */
async function verify(folder: string): Promise<ReturnType<typeof check>> {
  const tell = (what: string) =>
    new Promise<void>((resolve) => {
      const socket = connect(CONTROL, () => socket.write(`${what}\n`))
      socket.resume()
      socket.on('error', () => resolve())
      socket.on('close', () => resolve())
    })
  await tell('hold')
  const found = check(folder)
  await tell('release')
  return found
}

function ask(what: string): void {
  const socket = connect(CONTROL)
  socket.setTimeout(CONTROL_PATIENCE_MS, () => socket.destroy(new Error('the service does not answer')))
  socket.on('connect', () => socket.write(`${what}\n`))
  socket.pipe(process.stdout)
  socket.on('error', (error) => {
    console.error(error.message)
    process.exit(1)
  })
}

const [command, folder, every] = process.argv.slice(2)
if (command === 'serve') serve(folder ?? '/data', Number(every ?? EVERY_MS))
else if (command === 'check' || command === 'verify') {
  const { entries, trouble } = command === 'check' ? check(folder ?? '/data') : await verify(folder ?? '/data')
  console.log(trouble ?? `entries=${entries}`)
  if (trouble) process.exit(1)
} else if (['hold', 'release', 'status'].includes(command ?? '')) ask(command!)
else {
  console.error('serve, check, verify, hold, release or status')
  process.exit(2)
}
