import { AskFirst } from '#components'

/** Asks a person before something that can't be taken back; whether they want it. */
export function useAsk() {
  const overlay = useOverlay()
  return async (question: { title: string; text: string; yes: string }): Promise<boolean> => {
    const asked = overlay.create(AskFirst, { destroyOnClose: true })
    return (await asked.open(question).result) === true
  }
}
