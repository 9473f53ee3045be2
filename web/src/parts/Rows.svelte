<script lang="ts">
  import type { Schema } from '../lib/api'
  import { ago } from '../lib/words'
  import Standing from './Standing.svelte'

  let { rows }: { rows: Schema['Row'][] } = $props()
  const local = (r: Schema['Row']) => r.name.slice(r.name.indexOf('/') + 1)
  const most = 12
</script>

<ol class="leaf ruled border-y border-rule-strong">
  {#each rows as r, i (r.name)}
    <li class="grid gap-x-4 py-1 md:grid-cols-[6.5rem_1fr]" data-name={r.name} data-standing={r.standing}>
      <span class="margin-note">{i + 1}</span>
      <span><Standing standing={r.standing} /></span>
      <div class="min-w-0">
        <p class="flex flex-wrap items-baseline gap-x-3">
          <span class="name break-all">{local(r)}</span>
          {#if r.from?.file}<span class="name text-soft">{r.from.file}:{r.from.line}</span>{/if}
        </p>
        {#if r.soon}<p class="text-attention">{r.soon}</p>{/if}
        {#if r.reason}<p class="text-soft">{r.reason}</p>{/if}
        {#if r.differences?.length}
          <table class="my-1 w-full max-w-3xl table-fixed text-left">
            <thead class="text-sm text-soft"
              ><tr
                ><th class="w-1/3 pr-3 font-normal">what</th><th class="w-1/3 pr-3 font-normal">wanted</th><th class="font-normal">found</th
                ></tr
              ></thead
            >
            <tbody>
              {#each r.differences.slice(0, most) as d, n (n)}
                <tr class="align-baseline"
                  ><td class="pr-3 break-words">{d.attribute}</td><td class="pr-3 break-words">{d.wanted}</td><td
                    class="font-medium break-words"
                    class:text-attention={r.standing === 'shifted'}>{d.found}</td
                  ></tr
                >
              {/each}
            </tbody>
          </table>
          {#if r.differences.length > most}<p class="text-soft">and {r.differences.length - most} more</p>{/if}
        {/if}
        {#if r.standing === 'shifted'}
          <p class="text-sm text-soft">
            Seen to differ {ago(r.shifted_at)}; until then it was as declared, from {ago(r.set_at)} on{#if r.touched?.at}; {r.touched
                .what || 'it'} was changed {ago(r.touched.at)} and belongs to {r.touched.owner}{/if}{#if r.newly_declared}; something else
              is wanted by now, by the declaration or by what the host has become, which is due{/if}.
          </p>
        {/if}
      </div>
    </li>
  {/each}
</ol>
