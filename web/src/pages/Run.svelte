<script lang="ts">
  import Check from '@lucide/svelte/icons/check'
  import CircleDashed from '@lucide/svelte/icons/circle-dashed'
  import LoaderCircle from '@lucide/svelte/icons/loader-circle'
  import Minus from '@lucide/svelte/icons/minus'
  import Undo2 from '@lucide/svelte/icons/undo-2'
  import X from '@lucide/svelte/icons/x'
  import { api, unwrap, type Schema } from '../lib/api'
  import { follow } from '../lib/stream'
  import { ago, counted, place, places, hostState } from '../lib/words'
  import Button from '../parts/Button.svelte'
  import Diff from '../parts/Diff.svelte'
  import Heading from '../parts/Heading.svelte'
  import Probes from '../parts/Probes.svelte'
  import Trouble from '../parts/Trouble.svelte'

  let { ground, id }: { ground: string; id: number } = $props()
  let run = $state<Schema['Run']>()
  let error = $state<unknown>()
  const marks = { waiting: CircleDashed, doing: LoaderCircle, done: Check, skipped: Minus, failed: X, cancelled: X, back: Undo2 }

  async function load() {
    run = await unwrap(api.GET('/grounds/{ground}/runs/{id}', { params: { path: { ground, id } } }))
  }
  /** merged is a host of the run with what a stream tells anew of it: steps that stand otherwise, and
   *  the notes behind those that came before. */
  function merged(old: Schema['RunPlace'], news: Schema['RunPlace']): Schema['RunPlace'] {
    const steps = new Map([...old.steps, ...news.steps].map((s) => [s.number, s]))
    return {
      ...news,
      steps: [...steps.values()].sort((a, b) => a.number - b.number),
      notes: [...(old.notes ?? []).slice(0, news.notes_from ?? 0), ...(news.notes ?? [])],
      probes: news.probes ?? old.probes,
    }
  }
  function watch() {
    return follow(`/grounds/${ground}/runs/${id}/events`, (kind, data) => {
      if (kind === 'end') load().catch((e) => (error = e))
      else if (kind === 'cancelled') run = run && { ...run, cancelled_by: (data as { by: string }).by }
      else if (run) {
        const h = data as Schema['RunPlace']
        run.hosts = run.hosts.map((old) => (old.host === h.host ? merged(old, h) : old))
      }
    })
  }
  $effect(() => {
    let stop = () => {}
    load().then(
      () => {
        if (run?.state === 'queued' || run?.state === 'running') stop = watch()
      },
      (e) => (error = e),
    )
    return () => stop()
  })

  async function resume() {
    try {
      run = await unwrap(api.POST('/grounds/{ground}/runs/{id}/resume', { params: { path: { ground, id } }, body: {} }))
      location.reload()
    } catch (e) {
      error = e
    }
  }
  let asked = $state(false)
  async function cancel() {
    asked = false
    try {
      run = await unwrap(api.POST('/grounds/{ground}/runs/{id}/cancel', { params: { path: { ground, id } } }))
    } catch (e) {
      error = e
    }
  }
  const goesOn = ['failed', 'back', 'interrupted', 'cancelled']
  const bad = (s: string) => ['failed', 'back', 'interrupted', 'cancelled', 'blocked', 'partly', 'moved', 'unmet'].includes(s)
  const resumable = $derived((run?.state === 'failed' || run?.state === 'cancelled') && run.hosts.some((h) => goesOn.includes(h.state)))
  const live = $derived(run?.state === 'queued' || run?.state === 'running')
</script>

<Heading title="Run {id}" about={run ? `Of plan ${run.plan}, begun ${ago(run.created_at)} by ${run.by}.` : ''}>
  {#if run}<a class="px-1 py-1" href="/{ground}/plans/{run.plan}">Plan {run.plan}</a>{/if}
  {#if resumable}<Button main onclick={resume}
      >Resume on {run!.hosts
        .filter((h) => goesOn.includes(h.state))
        .map((h) => h.host)
        .join(', ')}</Button
    >{/if}
  {#if live && run && !run.cancelled_by}
    {#if asked}
      <Button main onclick={cancel}>Stop, and take back what it has done</Button>
      <Button onclick={() => (asked = false)}>Go on</Button>
    {:else}
      <Button onclick={() => (asked = true)}>Cancel</Button>
    {/if}
  {/if}
</Heading>
{#if error}<Trouble {error} />{/if}
{#if run?.error}<p class="text-attention">{run.error}</p>{/if}
{#if run}
  <p class="mb-2" aria-live="polite" data-run={run.state}>
    {#if live && run.cancelled_by}Cancelled by {run.cancelled_by}: it ends the steps under way, and takes back what it has done.{:else if live}Under
      way: {places(run.hosts.filter((h) => h.state === 'done'))} of {run.hosts.length} done.{:else if run.state === 'done'}Done. Every {place(
        run.hosts,
      )} is as the plan says.{:else if run.state === 'cancelled'}Cancelled by {run.cancelled_by}.{:else}Ended, and not all is done.{/if}
  </p>
  {#each run.hosts as h (h.host)}
    <h2 class="mt-4 mb-1 flex flex-wrap items-baseline gap-x-4 text-lg font-bold">
      <a href="/{ground}/hosts/{h.host}">{h.host}</a>
      <span class="text-base font-normal {bad(h.state) ? 'text-alarm' : 'text-soft'}">{hostState[h.state]}</span>
    </h2>
    {#if h.fault?.what}
      <div role="alert" class="my-1 border-l-4 border-alarm bg-raised px-4 py-1">
        <p class="font-medium break-words">{h.fault.what}</p>
        {#if h.fault.rendered}<p class="name">
            {h.fault.file}:{h.fault.line}: {h.fault.rendered}{#if h.fault.from}, from {h.fault.from.file}:{h.fault.from.line}{/if}
          </p>{/if}
        {#if h.fault.output}<Diff text={h.fault.output} />{/if}
        {#if h.fault.fix}<p class="text-soft">{h.fault.fix}</p>{/if}
      </div>
    {/if}
    {#each h.notes ?? [] as n, i (i)}<p class="text-soft">{n}</p>{/each}
    {#if h.steps.length}
      <ol class="leaf ruled border-y border-rule-strong">
        {#each h.steps as s (s.number)}
          {@const Mark = marks[s.state]}
          <li class="flex flex-wrap items-baseline gap-x-3 py-0.5" class:text-soft={s.state === 'waiting' || s.state === 'skipped'}>
            <span class="margin-note">{s.number}</span>
            <span
              class="w-5 self-center {s.state === 'failed'
                ? 'text-alarm'
                : s.state === 'back' || s.state === 'cancelled'
                  ? 'text-attention'
                  : ''}"><Mark size={15} class={s.state === 'doing' ? 'animate-spin' : ''} aria-hidden="true" /></span
            >
            <span class="min-w-0 flex-1 basis-60 break-words">{s.text}</span>
            <span class="text-sm text-soft"
              >{s.state === 'back' ? 'taken back' : s.state === 'cancelled' ? 'ended by the cancel' : s.state}{#if s.took_ms}, {(
                  s.took_ms / 1000
                ).toFixed(1)} s{/if}</span
            >
          </li>
        {/each}
      </ol>
    {/if}
    {#if h.probes?.length}
      <div class="mt-1 ml-[4.25rem] text-sm max-sm:ml-0"><Probes probes={h.probes} /></div>
    {/if}
  {/each}
{:else if !error}
  <p class="text-soft">Reading …</p>
{/if}
