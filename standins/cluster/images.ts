import { fileURLToPath } from 'node:url'

// Images are names for programs that come with the stand-in. An image that is not here can't be pulled, as one that
// is in no registry can't.

export interface Image {
  /** What runs when a container names no command. */
  entry: string[]
  /** Programs of its own that can be run in it. */
  commands: Record<string, string[]>
}

const program = (name: string) => [process.execPath, fileURLToPath(new URL(`./${name}.mjs`, import.meta.url))]
const idle = ['sleep', '1000000']
const manifest = program('manifest-service')

const IMAGES: Record<string, Image> = {
  'manifest-service': { entry: [...manifest, 'serve'], commands: { manifestctl: manifest } },
  'gate-scanner': { entry: idle, commands: {} },
  kiosk: { entry: idle, commands: {} },
  timetable: { entry: idle, commands: {} },
  weather: { entry: idle, commands: {} },
  'tide-report': { entry: ['sleep', '1'], commands: {} },
  reader: { entry: idle, commands: {} },
  debian: { entry: idle, commands: {} },
}

/** Programs that are in every image, as in any small Linux. */
const EVERYWHERE = new Set([
  'sh',
  'bash',
  'tar',
  'cat',
  'ls',
  'find',
  'cp',
  'mv',
  'rm',
  'mkdir',
  'touch',
  'echo',
  'sleep',
  'true',
  'false',
  'stat',
  'sha256sum',
  'head',
  'yes',
  'sync',
  'env',
  'printf',
  'dd',
  'chmod',
])

export function imageOf(reference: string): Image | undefined {
  const name = reference
    .replace(/[@:][^/]*$/, '')
    .split('/')
    .at(-1)!
  return IMAGES[name]
}

/** What to run for a command in a container of an image; undefined when there is no such program in it. */
export function commandIn(image: Image, command: string[]): string[] | undefined {
  const [name, ...rest] = command
  if (Object.hasOwn(image.commands, name!)) return [...image.commands[name!]!, ...rest]
  return EVERYWHERE.has(name!.replace(/^(\/usr)?\/bin\//, '')) ? command : undefined
}
