<script lang="ts">
  let { text, diff = false }: { text: string; diff?: boolean } = $props()
  const lines = $derived(text.replace(/\n$/, '').split('\n'))
  const sort = (l: string) =>
    !diff
      ? ''
      : l.startsWith('+++') || l.startsWith('---') || l.startsWith('@@')
        ? 'text-soft'
        : l.startsWith('+')
          ? 'bg-raised font-bold'
          : l.startsWith('-')
            ? 'text-soft line-through decoration-1'
            : 'text-soft'
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<pre
  class="my-1 max-h-96 overflow-auto border-l-2 border-rule-strong py-1 pl-3 leading-5"
  tabindex="0"
  aria-label="difference">{#each lines as l, i (i)}<span class="block {sort(l)}">{l || ' '}</span>{/each}</pre>
