<script lang="ts">
  import type { Standing } from '../lib/words'

  let { standing, size = 16 }: { standing: Standing; size?: number } = $props()
  const id = $props.id()
  const shape = 'M5.25 1.5h5.5v9L8 14.5l-2.75-4z'
</script>

<!-- A stake: upright and filled, upright and hollow, leaning, hatched, dotted. -->
<svg width={size} height={size} viewBox="0 0 16 16" aria-hidden="true" class="inline-block shrink-0 align-[-0.15em]" data-stake={standing}>
  {#if standing === 'set'}
    <path d={shape} fill="currentColor" />
  {:else if standing === 'due'}
    <path d={shape} fill="none" stroke="currentColor" stroke-width="1.4" />
  {:else if standing === 'shifted'}
    <g transform="translate(-1.2 0.4) rotate(28 8 12) translate(0 0.4)" class="text-attention"><path d={shape} fill="currentColor" /></g>
  {:else if standing === 'stray'}
    <defs>
      <pattern id="hatch-{id}" width="2.6" height="2.6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <path d="M0 0V2.6" stroke="currentColor" stroke-width="1.5" />
      </pattern>
    </defs>
    <path d={shape} fill="url(#hatch-{id})" stroke="currentColor" stroke-width="0.9" />
  {:else}
    <path d={shape} fill="none" stroke="currentColor" stroke-width="1.3" stroke-dasharray="1.3 1.7" class="text-attention" />
  {/if}
</svg>
