<script lang="ts">
  import { AlertDialog } from 'bits-ui'
  import { api, unwrap, type Schema } from '../lib/api'
  import { route } from '../lib/router.svelte'
  import { ago, counted, purpose, unread } from '../lib/words'
  import Button from '../parts/Button.svelte'
  import Diff from '../parts/Diff.svelte'
  import Fold from '../parts/Fold.svelte'
  import Heading from '../parts/Heading.svelte'
  import Trouble from '../parts/Trouble.svelte'

  let { ground, id }: { ground: string; id: number } = $props()
  let plan = $state<Schema['Plan']>()
  let error = $state<unknown>()
  let asking = $state(false)
  let busy = $state(false)
  let named = $state<Record<string, string>>({})

  function read() {
    unwrap(api.GET('/grounds/{ground}/plans/{id}', { params: { path: { ground, id } } })).then(
      (p) => (plan = p),
      (e) => (error = e),
    )
  }
  $effect(read)

  const working = $derived((plan?.hosts ?? []).filter((h) => h.steps.length > 0))
  const shown = $derived(
    (plan?.hosts ?? []).filter(
      (h) =>
        h.steps.length > 0 || h.blockers?.length || h.unread || h.not_read?.length || h.cautions?.length || h.answers_otherwise?.length,
    ),
  )
  const otherwise = $derived((plan?.hosts ?? []).reduce((n, h) => n + (h.answers_otherwise?.length ?? 0), 0))
  const silent = $derived((plan?.hosts ?? []).filter((h) => h.unread))
  const idle = $derived((plan?.hosts ?? []).filter((h) => !shown.includes(h)))
  const removing = $derived(working.flatMap((h) => h.steps.filter((s) => s.removes?.length)))
  const steps = $derived(working.reduce((n, h) => n + h.steps.length, 0))

  async function apply() {
    busy = true
    try {
      const r = await unwrap(
        api.POST('/grounds/{ground}/runs', {
          params: { path: { ground } },
          body: { plan: id, removing: removing.map((s) => s.name).filter((a) => named[a] === a) },
        }),
      )
      route.go(`/${ground}/runs/${r.id}`)
    } catch (e) {
      error = e
    }
    busy = false
    asking = false
  }
</script>

<Heading
  title="Plan {id}"
  about={plan
    ? `For revision ${plan.revision} of ${ground}${plan.only ? `, ${purpose(plan.only)}` : ''}, made ${ago(plan.created_at)} by ${plan.by}.`
    : ''}
>
  {#if plan?.run}
    <a class="border border-rule-strong bg-raised px-3 py-1" href="/{ground}/runs/{plan.run}">Run {plan.run} of this plan</a>
  {:else if steps > 0}
    <Button main onclick={() => (asking = true)}>Apply {counted(steps, 'step')} to {working.map((h) => h.host).join(', ')}</Button>
  {/if}
</Heading>
{#if error}<Trouble {error} />{/if}
{#if plan?.error}<Trouble error={plan.error} />{/if}
{#if plan && !plan.error}
  {#if plan.state !== 'done'}
    <p class="border-y border-rule-strong py-6">It is still being made. <button class="underline" onclick={read}>Look again</button></p>
  {:else if plan.unread > 0 && plan.steps === 0 && plan.blockers === 0}
    <p class="border-y border-rule-strong py-6 text-attention">
      {unread(silent, plan.unread - silent.length)} could not be read{silent.length === plan.hosts.length
        ? ': nothing is planned.'
        : '. As far as the rest goes there is nothing to do.'}
    </p>
  {:else if plan.steps === 0 && plan.blockers === 0 && otherwise > 0}
    <p class="border-y border-rule-strong py-6 text-attention">
      There is nothing to do, and not all is as declared: {otherwise === 1 ? '1 site answers' : `${otherwise} sites answer`} otherwise.
    </p>
  {:else if plan.steps === 0 && plan.blockers === 0}
    <p class="border-y border-rule-strong py-6">There is nothing to do: all is as revision {plan.revision} declares.</p>
  {/if}
  {#each shown as h (h.host)}
    <h2 class="mt-4 mb-1 flex flex-wrap items-baseline gap-x-4 text-lg font-bold">
      <a href="/{ground}/hosts/{h.host}">{h.host}</a>
      {#if h.machine}<span class="text-base font-normal">the machine that the service runs on, {h.machine}</span>{/if}
      <span class="text-base font-normal text-soft"
        >{h.blockers?.length && !h.steps.length
          ? 'blocked: this host will be left as it is'
          : counted(h.steps.length, 'step')}{#if h.blockers?.length && h.steps.length}, {counted(
            h.blockers.length + (h.left?.length ?? 0),
            'stake',
          )} blocked{/if}</span
      >
    </h2>
    {#if h.unread}<p class="text-attention">It could not be read: {h.unread}</p>{/if}
    {#each h.not_read ?? [] as n (n.name)}<p><b class="text-attention">Not read.</b> <span class="name">{n.name}</span>: {n.why}</p>{/each}
    {#each h.answers_otherwise ?? [] as o, i (i)}
      <div class="my-1 border-l-4 border-attention bg-raised px-4 py-1">
        <p><b class="text-attention">Answers otherwise.</b> <span class="name">{o.name}</span>: {o.what}</p>
        <p class="text-soft">{o.fix}</p>
      </div>
    {/each}
    {#each h.blockers ?? [] as b, i (i)}
      <div class="my-1 border-l-4 border-alarm bg-raised px-4 py-1">
        <p><b class="text-alarm">Blocked.</b> <span class="name">{b.name}</span>: {b.what}</p>
        <p class="text-soft">{b.fix}</p>
      </div>
    {/each}
    {#if h.left?.length}<p class="text-soft">
        Left as they are until then: {#each h.left as l, i (l.name)}{#if i},
          {/if}<span class="name">{l.name}</span>{/each}.
      </p>{/if}
    {#each h.cautions ?? [] as b, i (i)}
      <div class="my-1 border-l-4 border-attention bg-raised px-4 py-1">
        <p><b class="text-attention">Caution.</b> <span class="name">{b.name}</span>: {b.what}</p>
        <p class="text-soft">{b.fix}</p>
      </div>
    {/each}
    <ol class="leaf ruled border-y border-rule-strong">
      {#each h.steps as s (s.number)}
        <li class="py-1" data-step={s.name}>
          <span class="margin-note">{s.number}</span>
          <p class="break-words">
            <b class="font-bold">{s.verb}</b>{s.text.slice(s.verb.length)}{#if s.because}<span class="text-soft">, because {s.because}</span
              >{/if}
          </p>
          {#each s.details ?? [] as d, i (i)}<Fold title={d.diff ? `difference of ${d.title}` : d.title}
              ><Diff text={d.text} diff={d.diff} /></Fold
            >{/each}
        </li>
      {/each}
    </ol>
  {/each}
  {#if idle.length && plan.steps > 0}<p class="mt-4 text-soft">Nothing to do on {idle.map((h) => h.host).join(', ')}.</p>{/if}
{:else if !error && !plan}
  <p class="text-soft">Reading …</p>
{/if}

<AlertDialog.Root bind:open={asking}>
  <AlertDialog.Portal>
    <AlertDialog.Overlay class="fixed inset-0 z-10 bg-black/40" />
    <AlertDialog.Content
      class="fixed top-1/2 left-1/2 z-20 max-h-[92vh] w-[min(92vw,34rem)] -translate-x-1/2 -translate-y-1/2 overflow-auto border border-rule-strong bg-paper p-5"
    >
      <AlertDialog.Title class="text-xl font-bold">Apply plan {id}?</AlertDialog.Title>
      <AlertDialog.Description class="mt-2">
        {counted(steps, 'step')} will be done, as shown, on:
        <span class="my-2 block border-y border-rule py-1"
          >{#each working as h (h.host)}<span class="block"
              ><span class="name">{h.host}</span>{#if h.machine}
                (the service's own machine, {h.machine}){/if}: {h.steps.map((s) => `${s.verb} ${s.subject}`).join(', ')}</span
            >{/each}</span
        >
        A host that has changed since the plan is left as it is.
      </AlertDialog.Description>
      {#each removing as s (s.name)}
        <label class="mt-3 block border-l-4 border-alarm bg-raised px-4 py-2">
          <span class="text-alarm"
            >{s.shuts
              ? 'The way in to the host goes for good:'
              : `${counted(s.removes?.length ?? 0, 'file')} that nobody declared will be removed:`}</span
          >
          <span class="name block max-h-24 overflow-auto break-words">{s.removes?.join(', ')}</span>
          To remove {s.removes?.length === 1 ? 'it' : 'them'}, type <b class="name">{s.name}</b>
          <input class="name mt-1 w-full border-b border-rule-strong bg-transparent py-1" autocomplete="off" bind:value={named[s.name]} />
        </label>
      {/each}
      <div class="mt-4 flex justify-end gap-2">
        <AlertDialog.Cancel class="border border-rule-strong bg-raised px-3 py-1 font-medium hover:border-ink">Leave it</AlertDialog.Cancel>
        <AlertDialog.Action
          class="border border-ink bg-ink px-3 py-1 font-medium text-paper enabled:hover:bg-blue disabled:cursor-not-allowed disabled:opacity-40"
          onclick={apply}
          disabled={busy || removing.some((s) => named[s.name] !== s.name)}>Apply</AlertDialog.Action
        >
      </div>
    </AlertDialog.Content>
  </AlertDialog.Portal>
</AlertDialog.Root>
