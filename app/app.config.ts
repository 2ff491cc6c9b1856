export default defineAppConfig({
  ui: {
    colors: { primary: 'glaze', secondary: 'hold', success: 'glaze', info: 'hold', warning: 'ochre', error: 'iron', neutral: 'clay' },
    button: {
      slots: { base: 'rounded-[6px] font-[550] transition-colors' },
      compoundVariants: [
        { color: 'neutral', variant: 'outline', class: 'bg-[var(--sheet)] ring-[var(--edge)] text-[var(--ink)] hover:bg-[var(--ground)]' },
      ],
      defaultVariants: { color: 'neutral', variant: 'outline' },
    },
    input: { slots: { base: 'rounded-[6px] bg-[var(--sheet)]' } },
    textarea: { slots: { base: 'rounded-[6px] bg-[var(--sheet)]' } },
    select: { slots: { base: 'rounded-[6px] bg-[var(--sheet)]', content: 'shadow-none ring ring-[var(--line-strong)] bg-[var(--sheet)]' } },
    modal: {
      slots: { content: 'shadow-none ring ring-[var(--line-strong)] bg-[var(--sheet)] rounded-[6px]', overlay: 'bg-[var(--ink)]/25' },
    },
    slideover: {
      slots: { description: 'pe-10', content: 'shadow-none ring ring-[var(--line)] bg-[var(--sheet)]', overlay: 'bg-[var(--ink)]/25' },
    },
    toast: { slots: { root: 'shadow-none ring ring-[var(--line-strong)] bg-[var(--sheet)] rounded-[6px]' } },
    tooltip: {
      slots: {
        content:
          'shadow-none ring ring-[var(--line-strong)] bg-[var(--sheet)] text-[var(--ink)] h-auto max-w-80 py-1.5 text-[12px] whitespace-normal',
      },
    },
  },
})
