<script lang="ts">
  import { api, unwrap, type Schema } from '../lib/api'
  import { route } from '../lib/router.svelte'
  import { ended } from '../lib/stream'
  import { ago, places } from '../lib/words'
  import Button from '../parts/Button.svelte'
  import Counts from '../parts/Counts.svelte'
  import Heading from '../parts/Heading.svelte'
  import Rows from '../parts/Rows.svelte'
  import Trouble from '../parts/Trouble.svelte'

  let { ground }: { ground: string } = $props()
  let drift = $state<Schema['Drift']>()
  let error = $state<unknown>()
  let busy = $state('')

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
  async function load() {
    drift = await unwrap(api.GET('/grounds/{ground}/drift', { params: { path: { ground } } }))
  }
  const check = () =>
    doing('check', async () => {
      const s = await unwrap(api.POST('/grounds/{ground}/surveys', { params: { path: { ground } }, body: {} }))
      await ended(`/grounds/${ground}/surveys/${s.id}/events`)
      await load()
    })
  const restore = () =>
    doing('restore', async () => {
      const p = await unwrap(api.POST('/grounds/{ground}/plans', { params: { path: { ground } }, body: { only: 'shifted' } }))
      await ended(`/grounds/${ground}/plans/${p.id}/events`)
      route.go(`/${ground}/plans/${p.id}`)
    })
  $effect(() => {
    doing('load', load)
  })

  const touched = $derived((drift?.hosts ?? []).filter((h) => h.rows.length > 0 || h.unread))
  const looks = $derived((drift?.hosts ?? []).flatMap((h) => (h.seen_at ? [h.seen_at] : [])).sort())
  /** span says when the looks of these times, in their order, were made. */
  const span = (looks: string[]) => [...new Set([ago(looks[0]), ago(looks.at(-1))])].join(' to ')
  const shifted = $derived((drift?.hosts ?? []).reduce((n, h) => n + h.counts.shifted, 0))
</script>

<Heading title="Drift" about="What has changed in {ground} since it was applied.">
  <Button onclick={check} disabled={busy !== ''}>{busy === 'check' ? 'Checking …' : 'Check again'}</Button>
  {#if shifted > 0}<Button main onclick={restore} disabled={busy !== ''}>{busy === 'restore' ? 'Planning …' : 'Plan to put it back'}</Button
    >{/if}
</Heading>
{#if error}<Trouble {error} />{/if}
{#if drift}
  {#if touched.length === 0}
    <p class="border-y border-rule-strong py-6">
      {#if drift.hosts.length === 0}No host is declared.{:else}Nothing had shifted on {places(drift.hosts)} when
        {drift.hosts.length === 1 ? 'it was' : 'they were'} last looked at, {span(looks)}.{/if}
    </p>
  {/if}
  {#each touched as h (h.host)}
    <div class="mt-4 mb-1 flex flex-wrap items-baseline gap-x-5">
      <h2 class="text-lg font-bold"><a href="/{ground}/hosts/{h.host}">{h.host}</a></h2>
      {#if h.seen_at}<Counts counts={h.counts} /><span class="text-soft">as it was {ago(h.seen_at)}</span>{/if}
    </div>
    {#if h.unread}<p class="text-attention">{h.unread}</p>{/if}
    {#if h.rows.length}<Rows rows={h.rows} />{/if}
  {/each}
{:else if !error}
  <p class="text-soft">Reading …</p>
{/if}
