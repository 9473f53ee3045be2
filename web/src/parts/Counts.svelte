<script lang="ts">
  import type { Schema } from '../lib/api'
  import { standings } from '../lib/words'
  import Standing from './Standing.svelte'

  let { counts }: { counts: Schema['Counts'] } = $props()
  const shown = $derived(standings.filter((s) => counts[s] > 0))
</script>

<span class="inline-flex flex-wrap gap-x-4">
  {#each shown as s (s)}<Standing standing={s} count={counts[s]} />{:else}<span class="text-soft">no stakes</span>{/each}
</span>
