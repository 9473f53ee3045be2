<script lang="ts">
  import { api, unwrap, type Schema } from '../lib/api'
  import { ago, counted, purpose } from '../lib/words'
  import Heading from '../parts/Heading.svelte'
  import Trouble from '../parts/Trouble.svelte'

  let { ground, sort }: { ground: string; sort: 'plans' | 'runs' } = $props()
  function planned(p: Schema['PlanBrief']) {
    if (p.state === 'failed') return 'failed'
    if (p.state !== 'done') return 'still being made'
    if (p.steps > 0) return counted(p.steps, 'step')
    return p.blockers ? 'nothing can be done' : p.unread ? 'nothing to do in what was read' : 'nothing to do'
  }
  const path = $derived({ path: { ground } })
  const plans = $derived(sort === 'plans' ? unwrap(api.GET('/grounds/{ground}/plans', { params: path })) : Promise.resolve([]))
  const runs = $derived(sort === 'runs' ? unwrap(api.GET('/grounds/{ground}/runs', { params: path })) : Promise.resolve([]))
</script>

<Heading
  title={sort === 'plans' ? 'Plans' : 'Runs'}
  about={sort === 'plans' ? 'What would change, worked out and recorded.' : 'What was done.'}
/>
{#await Promise.all([plans, runs])}
  <p class="text-soft">Reading …</p>
{:then [plans, runs]}
  <ol class="leaf ruled border-y border-rule-strong">
    {#each plans as p (p.id)}
      <li class="flex flex-wrap items-baseline gap-x-4 py-1">
        <a class="margin-note" href="/{ground}/plans/{p.id}" aria-label="plan {p.id}">{p.id}</a>
        <a href="/{ground}/plans/{p.id}">{planned(p)}</a>
        {#if p.only}<span>{purpose(p.only)}</span>{/if}
        {#if p.unread}<span class="text-attention">{p.unread} not read</span>{/if}
        {#if p.blockers}<span class="text-alarm">{counted(p.blockers, 'blocker')}</span>{/if}
        <span class="text-soft">revision {p.revision}, {ago(p.created_at)}, by {p.by}</span>
      </li>
    {/each}
    {#each runs as r (r.id)}
      <li class="flex flex-wrap items-baseline gap-x-4 py-1">
        <a class="margin-note" href="/{ground}/runs/{r.id}" aria-label="run {r.id}">{r.id}</a>
        <a href="/{ground}/runs/{r.id}" class:text-alarm={r.state === 'failed'} class:text-attention={r.state === 'unmet'}
          >{r.state === 'unmet' ? 'done, and still not as declared' : r.state}</a
        ><span>plan {r.plan}</span>
        <span class="text-soft">{ago(r.created_at)}, by {r.by}</span>
      </li>
    {/each}
    {#if plans.length + runs.length === 0}<li class="py-4 text-soft">There are none yet.</li>{/if}
  </ol>
{:catch error}
  <Trouble {error} />
{/await}
