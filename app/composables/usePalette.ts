/** Whether the command palette is open. */
export const usePalette = () => useState('palette', () => false)

/** Whether the list of keys is open. */
export const useKeyHelp = () => useState('key-help', () => false)

/** For which vessel the question for a backup is open. */
export const useBackUp = () => useState<{ slug: string; name: string } | null>('back-up', () => null)
