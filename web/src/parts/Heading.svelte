<script lang="ts">
  import type { Snippet } from 'svelte'

  let { title, about = '', children }: { title: string; about?: string; children?: Snippet } = $props()
</script>

<svelte:head><title>{title} · North Stake</title></svelte:head>
<div class="mt-5 mb-3 flex flex-wrap items-end justify-between gap-x-6 gap-y-2">
  <div>
    <h1 class="text-2xl leading-tight font-bold">{title}</h1>
    {#if about}<p class="text-soft">{about}</p>{/if}
  </div>
  {#if children}<div class="flex flex-wrap gap-2">{@render children()}</div>{/if}
</div>
