<script lang="ts">
  import { api, unwrap, type Schema } from '../lib/api'
  import { ago, counted } from '../lib/words'
  import Button from '../parts/Button.svelte'
  import Fold from '../parts/Fold.svelte'
  import Heading from '../parts/Heading.svelte'
  import Probes from '../parts/Probes.svelte'
  import Rows from '../parts/Rows.svelte'
  import StandingMark from '../parts/Standing.svelte'
  import Trouble from '../parts/Trouble.svelte'

  let { ground, site }: { ground: string; site: string } = $props()
  const view = $derived(unwrap(api.GET('/grounds/{ground}/sites/{site}', { params: { path: { ground, site } } })))
  let probes = $state<Schema['ProbeResult'][]>()
  let busy = $state(false)
  let error = $state<unknown>()

  async function probe() {
    busy = true
    error = undefined
    await unwrap(api.POST('/grounds/{ground}/probes', { params: { path: { ground } }, body: { site } })).then(
      (r) => (probes = r),
      (e) => (error = e),
    )
    busy = false
  }
  const worst = (h: Schema['SiteOnHost']) =>
    (['unread', 'shifted', 'due', 'stray'] as const).find((s) => h.rows.some((r) => r.standing === s)) ?? 'set'

  /** Lines that come from one place of the declaration stand together. */
  function groups(lines: Schema['RenderedLine'][]): { place: string; source: string; text: string[]; first: number }[] {
    const out: { place: string; source: string; text: string[]; first: number }[] = []
    lines.forEach((l, i) => {
      const place = l.from?.file ? `${l.from.file}:${l.from.line}` : ''
      const last = out.at(-1)
      if (last && last.place === place) last.text.push(l.text)
      else out.push({ place, source: l.source ?? '', text: [l.text], first: i + 1 })
    })
    return out
  }
</script>

{#await view}
  <Heading title={site} />
  <p class="text-soft">Reading …</p>
{:then s}
  <Heading title={s.name} about="{s.names.join(', ')} · {s.server} · {s.from.file}:{s.from.line}">
    <Button onclick={probe} disabled={busy}>{busy ? 'Probing …' : 'Probe'}</Button>
  </Heading>
  <dl class="grid gap-x-6 border-t border-rule-strong md:grid-cols-2">
    <div class="flex gap-3 border-b border-rule py-1">
      <dt class="w-24 shrink-0 text-soft">listens</dt>
      <dd class="name min-w-0 break-words">{s.listens.join(', ')}</dd>
    </div>
    <div class="flex gap-3 border-b border-rule py-1">
      <dt class="w-24 shrink-0 text-soft">served</dt>
      <dd>
        {s.closed
          ? 'no, it is closed: visitors get its page for that, with 503'
          : s.served
            ? s.catch_all
              ? 'yes, and to names that no site has'
              : 'yes'
            : 'no, it is kept and switched off'}
      </dd>
    </div>
    {#if s.redirected_names.length}<div class="flex gap-3 border-b border-rule py-1">
        <dt class="w-24 shrink-0 text-soft">redirected</dt>
        <dd class="name min-w-0 break-words">{s.redirected_names.join(', ')}</dd>
      </div>{/if}
  </dl>
  {#if error}<Trouble {error} />{/if}
  {#if probes}
    <h2 class="mt-5 mb-1 text-lg font-bold">Probes</h2>
    {#if probes.length}<Probes {probes} />{:else}<p class="text-soft">
        It declares no probe, and has no content of which one would follow.
      </p>{/if}
  {/if}
  {#each s.hosts as h (h.host)}
    <section data-host={h.host}>
      <h2 class="mt-6 mb-1 flex flex-wrap items-baseline gap-x-4 text-lg font-bold">
        <a class="name" href="/{ground}/hosts/{h.host}">{h.host}</a>
        {#if !h.unread}<span class="text-base font-normal"><StandingMark standing={worst(h)} /></span>{/if}
        <span class="text-sm font-normal text-soft"
          >{[h.service && `by ${h.service}${h.image ? ` of image ${h.image}` : ''}`, h.system, h.seen_at && `seen ${ago(h.seen_at)}`]
            .filter(Boolean)
            .join(' · ')}</span
        >
      </h2>
      {#if h.unread}<p class="border-l-4 border-attention bg-raised px-4 py-2 break-words">{h.unread}</p>{/if}
      {#if h.rows.length}<Rows rows={h.rows} />{/if}
      {#if h.lines.length}
        <Fold title="{h.file} · {counted(h.lines.length, 'line')}">
          <ol class="overflow-x-auto border-y border-rule text-sm" data-rendered={h.host}>
            {#each groups(h.lines) as g (g.first)}
              <li class="grid gap-x-5 border-b border-rule py-1 last:border-0 md:grid-cols-[1fr_minmax(0,22rem)]">
                <pre class="min-w-0 overflow-x-auto">{g.text.join('\n')}</pre>
                <p class="min-w-0 md:border-l md:border-rule md:pl-4">
                  <span class="name block text-soft">{g.place}</span>{#if g.source}<code class="block break-words">{g.source}</code>{/if}
                </p>
              </li>
            {/each}
          </ol>
        </Fold>
      {/if}
    </section>
  {:else}<p class="mt-4 text-soft">No host serves it.</p>{/each}
{:catch error}
  <Heading title={site} />
  <Trouble {error} />
{/await}
