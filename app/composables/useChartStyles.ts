import { computed, type Ref } from 'vue'

/** Colours and type of charts, as the page has them now. Null before it stands on the page. */
export function useChartStyles(root: Ref<HTMLElement | null>) {
  const mode = useColorMode()
  return computed(() => {
    void mode.value
    if (!root.value) return null
    const of = getComputedStyle(root.value)
    const token = (name: string) => of.getPropertyValue(name).trim()
    const font = { family: of.fontFamily, size: 12 }
    const ink = token('--ink')
    const edge = token('--line-strong')
    return {
      token,
      line: token('--line'),
      soft: token('--soft'),
      edge,
      font,
      tooltip: {
        displayColors: false,
        backgroundColor: token('--sheet'),
        borderColor: edge,
        borderWidth: 1,
        cornerRadius: 6,
        titleFont: font,
        bodyFont: font,
        titleColor: ink,
        bodyColor: ink,
      },
    }
  })
}
