<script lang="ts">
  import type { Schema } from '../lib/api'
  import { millis } from '../lib/words'

  let { probes }: { probes: Schema['ProbeResult'][] } = $props()

  const url = (p: Schema['ProbeResult']) =>
    `${p.method && p.method !== 'GET' ? p.method + ' ' : ''}http://${p.name}${p.port === 80 ? '' : ':' + p.port}${p.path}`
  function words(p: Schema['ProbeResult']): string {
    const where = p.redirects?.length ? `, sent on to ${p.redirects.at(-1)}` : ''
    if (p.ok) return `${p.got_status}${where}`
    return (p.error || `answered ${p.got_status}, wanted ${p.status}`) + where
  }
</script>

<div class="overflow-x-auto">
  <table class="w-full text-left">
    <thead class="text-sm text-soft"
      ><tr
        ><th class="pr-4 font-normal">asked for</th><th class="pr-4 font-normal">from</th><th class="pr-4 font-normal">answered by</th><th
          class="pr-4 text-right font-normal">first byte</th
        ><th class="pr-4 text-right font-normal">took</th><th class="font-normal">answer</th></tr
      ></thead
    >
    <tbody class="ruled">
      {#each probes as p, i (i)}
        <tr class="align-baseline" data-probe={p.ok ? 'ok' : 'bad'}>
          <td class="name py-0.5 pr-4 break-all">{url(p)}</td>
          <td class="pr-4">{p.from}</td>
          <td class="name pr-4 text-soft">{p.answered ?? ''}</td>
          <td class="pr-4 text-right whitespace-nowrap">{p.first ? millis(p.first) : ''}</td>
          <td class="pr-4 text-right whitespace-nowrap">{millis(p.took)}</td>
          <td class="break-words" class:text-alarm={!p.ok}>{words(p)}</td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
