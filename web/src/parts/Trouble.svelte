<script lang="ts">
  import { Refused } from '../lib/api'

  let { error }: { error: unknown } = $props()
  const refused = $derived(error instanceof Refused ? error.problem : undefined)
</script>

<div role="alert" class="my-4 border-l-4 border-alarm bg-raised px-4 py-2">
  <p class="font-bold text-alarm first-letter:uppercase">{refused?.title ?? String(error)}</p>
  {#if refused?.detail}<p class="whitespace-pre-wrap">{refused.detail}</p>{/if}
  {#if refused?.fix}<p class="text-soft first-letter:uppercase">{refused.fix}</p>{/if}
</div>
