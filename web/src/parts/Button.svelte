<script lang="ts">
  import type { Snippet } from 'svelte'
  import type { HTMLButtonAttributes } from 'svelte/elements'

  let { children, main = false, ...rest }: { children: Snippet; main?: boolean } & HTMLButtonAttributes = $props()
</script>

<button
  {...rest}
  class="inline-flex items-center gap-2 border px-3 py-1 font-medium whitespace-nowrap disabled:cursor-wait disabled:opacity-60 {main
    ? 'border-ink bg-ink text-paper enabled:hover:bg-blue enabled:hover:border-blue'
    : 'border-rule-strong bg-raised enabled:hover:border-ink'}"
>
  {@render children()}
</button>
