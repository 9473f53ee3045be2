<script lang="ts">
  import { api, unwrap, type Schema } from '../lib/api'
  import { route } from '../lib/router.svelte'
  import { ended } from '../lib/stream'
  import { ago, counted, place, places, meaning, standings } from '../lib/words'
  import Button from '../parts/Button.svelte'
  import Counts from '../parts/Counts.svelte'
  import Heading from '../parts/Heading.svelte'
  import Stake from '../parts/Stake.svelte'
  import Trouble from '../parts/Trouble.svelte'

  let { ground }: { ground: string } = $props()
  let view = $state<Schema['GroundView']>()
  let error = $state<unknown>()
  let busy = $state('')

  async function load() {
    view = await unwrap(api.GET('/grounds/{ground}', { params: { path: { ground } } }))
  }

  async function doing(what: string, work: () => Promise<void>) {
    busy = what
    error = undefined
    try {
      await work()
    } catch (e) {
      error = e
    }
    busy = ''
  }

  const survey = () =>
    doing('survey', async () => {
      const s = await unwrap(api.POST('/grounds/{ground}/surveys', { params: { path: { ground } }, body: {} }))
      await ended(`/grounds/${ground}/surveys/${s.id}/events`)
      await load()
    })

  const plan = () =>
    doing('plan', async () => {
      const p = await unwrap(api.POST('/grounds/{ground}/plans', { params: { path: { ground } }, body: {} }))
      await ended(`/grounds/${ground}/plans/${p.id}/events`)
      route.go(`/${ground}/plans/${p.id}`)
    })

  $effect(() => {
    doing('load', load)
  })

  const worst = (h: Schema['PlaceBrief']) => standings.filter((s) => h.counts[s] > 0)
  const all = $derived(view?.hosts ?? [])
  const quiet = $derived(
    all.length > 0 &&
      all.every(
        (h) =>
          h.trusted &&
          !h.unread &&
          h.revision === view?.revision.number &&
          h.counts.set > 0 &&
          h.counts.due + h.counts.shifted + h.counts.stray + h.counts.unread === 0,
      ),
  )
</script>

<Heading title={ground} about={view?.about}>
  <Button onclick={survey} disabled={busy !== ''}>{busy === 'survey' ? 'Surveying …' : 'Survey'}</Button>
  <Button main onclick={plan} disabled={busy !== ''}>{busy === 'plan' ? 'Planning …' : 'Plan'}</Button>
</Heading>
{#if error}<Trouble {error} />{/if}
{#if view}
  <p class="mb-3">
    {#if quiet}All stakes of {places(all)} were set when last looked at, as revision {view.revision.number} declares.{:else}{places(all)}, {counted(
        view.sites.length,
        'site',
      )}, revision {view.revision.number}, declared {ago(view.revision.created_at)} by {view.revision.by}.{/if}
    {#if view.last_run}Last <a href="/{ground}/runs/{view.last_run.id}">run {view.last_run.id}</a>: {view.last_run.state}, {ago(
        view.last_run.created_at,
      )}.{/if}
    {#if view.last_plan}Last <a href="/{ground}/plans/{view.last_plan.id}">plan {view.last_plan.id}</a>: {counted(
        view.last_plan.steps,
        'step',
      )}.{/if}
  </p>
  <h2 class="mt-5 mb-1 text-lg font-bold">{place(all) === 'place' ? 'Places' : 'Hosts'}</h2>
  <ol class="leaf ruled border-y border-rule-strong">
    {#each all as h, i (h.name)}
      <li class="grid items-baseline gap-x-5 gap-y-0.5 py-2 md:grid-cols-[8rem_9rem_1fr_6rem]" data-host={h.name}>
        <span class="margin-note">{i + 1}</span>
        <a href="/{ground}/hosts/{h.name}" class="name">{h.name}</a>
        <span class="name text-soft"
          >{h.sort
            ? h.sort
            : h.container
              ? `in ${h.engine ? h.engine : 'the service’s machine'}`
              : h.via === 'service-machine'
                ? 'the service’s machine'
                : h.address}</span
        >
        <div class="min-w-0">
          {#if !h.trusted}<p class="text-attention">Its key is not trusted yet: <code>northstake trust {h.name}</code></p>
          {:else if h.unread}<p class="break-words text-attention"><Stake standing="unread" /> {h.unread}</p>
          {:else if !h.seen_at}<p class="text-soft">Not surveyed yet.</p>
          {:else}
            <p class="flex flex-wrap leading-4" aria-hidden="true">
              {#each worst(h) as s (s)}{#each { length: Math.min(h.counts[s], 160) } as _, n (n)}<Stake
                    standing={s}
                    size={13}
                  />{/each}{/each}
            </p>
            <Counts counts={h.counts} />
            {#if h.revision !== view.revision.number}<p class="text-soft">
                As revision {h.revision} declared it; revision {view.revision.number} has not been looked at here.
              </p>{/if}
            {#if h.restart_needed}<p class="break-words text-attention">It needs a restart: {h.restart_needed}</p>{/if}
          {/if}
        </div>
        <span class="text-sm text-soft md:text-right">{h.seen_at ? ago(h.seen_at) : ''}</span>
      </li>
    {/each}
  </ol>
  <h2 class="mt-5 mb-1 text-lg font-bold">Sites</h2>
  <ol class="leaf ruled border-y border-rule-strong">
    {#each view.sites as s, i (s.name)}
      <li class="grid items-baseline gap-x-5 py-1 md:grid-cols-[8rem_1fr_1fr]">
        <span class="margin-note">{i + 1}</span><a class="name" href="/{ground}/sites/{s.name}">{s.name}</a><span
          class="name min-w-0 break-words text-soft">{s.names.join(' ')}</span
        >
        <span
          >on {#each s.hosts as h, n (h)}{n ? ', ' : ''}<a class="name" href="/{ground}/hosts/{h}">{h}</a>{/each}</span
        >
      </li>
    {:else}<li class="py-2 text-soft">No site is declared.</li>{/each}
  </ol>
  <p class="mt-5 flex flex-wrap gap-x-5 text-sm text-soft">
    {#each standings as s (s)}<span><Stake standing={s} size={14} /> {s}: {meaning[s]}</span>{/each}
  </p>
{:else if !error}
  <p class="text-soft">Reading …</p>
{/if}
