<script lang="ts">
  import { api, unwrap, type Schema } from '../lib/api'
  import { ago, bytes, counted, standings, type Standing } from '../lib/words'
  import Heading from '../parts/Heading.svelte'
  import Rows from '../parts/Rows.svelte'
  import StandingMark from '../parts/Standing.svelte'
  import Trouble from '../parts/Trouble.svelte'

  let { ground, host }: { ground: string; host: string } = $props()
  let only = $state<Standing>()
  const view = $derived(unwrap(api.GET('/grounds/{ground}/hosts/{host}', { params: { path: { ground, host } } })))

  function traits(h: Schema['PlaceView']): [string, string][] {
    const t = h.traits
    const chosen: [string, string] = [
      'chosen by',
      [h.name, ...(h.labels ?? []).map((l) => `label:${l}`), ...(h.kits ?? []).map((k) => `kit:${k}`)].join(', '),
    ]
    if (h.sort) return [['sort', h.sort], chosen]
    if (!t?.system) return []
    return [
      ['system', t.system + (t.family ? `, family ${t.family}` : '')],
      ['kernel', `${t.kernel}, ${t.architecture}`],
      ['memory', `${bytes(t.memory)}, ${counted(t.cpus, 'processor')}`],
      ['disks', (t.disks ?? []).map((d) => `${d.mount} ${bytes(d.free)} free of ${bytes(d.size)}`).join('; ')],
      ['addresses', (t.addresses ?? []).join(', ')],
      ['packages', t.package_manager],
      ['services', t.service_manager],
      ['firewall', t.firewall],
      ['confined by', t.confinement ?? ''],
      ['web servers', (t.web_servers ?? []).map((s) => `${s.name} (${s.package} ${s.version})`).join(', ') || 'none'],
      [
        'clock',
        !t.clock_skew
          ? 'right'
          : t.clock_skew.startsWith('-')
            ? `${t.clock_skew.slice(1)} behind the service's`
            : `${t.clock_skew} ahead of the service's`,
      ],
      ['restart', t.restart_needed ? `needed: ${t.restart_needed}` : 'not needed'],
      [
        'reached',
        h.via === 'service-machine'
          ? `without SSH: the service runs on this machine, ${t.hostname}`
          : h.container
            ? `through its engine: it is container ${h.container} on ${h.engine ?? "the service's machine"}`
            : `over SSH, at ${h.address}`,
      ],
      chosen,
      [
        'listens',
        (t.listeners ?? [])
          .map((l) => `${l.port}/${l.protocol} ${l.program}`)
          .filter((v, i, a) => a.indexOf(v) === i)
          .join(', '),
      ],
    ]
  }
  const shown = (rows: Schema['Row'][]) => (only ? rows.filter((r) => r.standing === only) : rows)
</script>

{#await view}
  <Heading title={host} />
  <p class="text-soft">Reading …</p>
{:then h}
  <Heading
    title={h.name}
    about="{h.sort ? h.sort : h.container ? `container on ${h.engine ?? "the service's machine"}` : h.address} · seen {ago(
      h.seen_at,
    )}{h.revision ? `, revision ${h.revision}` : ''}"
  />
  {#if !h.trusted}<p class="my-3 border-l-4 border-attention bg-raised px-4 py-2">
      Its key is not trusted yet. Compare a fingerprint and trust it: <code>northstake trust {h.name}</code>
    </p>{/if}
  {#if h.unread}<p class="my-3 border-l-4 border-attention bg-raised px-4 py-2 break-words">
      <StandingMark standing="unread" />
      {h.unread}
    </p>{/if}
  {#if h.traits?.system}
    <dl class="grid gap-x-6 border-t border-rule-strong md:grid-cols-2">
      {#each traits(h) as [k, v] (k)}
        <div class="flex gap-3 border-b border-rule py-1">
          <dt class="w-24 shrink-0 text-soft">{k}</dt>
          <dd class="min-w-0 break-words">{v}</dd>
        </div>
      {/each}
    </dl>
  {/if}
  {#if h.givens?.length}
    <h2 class="mt-5 mb-1 text-lg font-bold">Givens</h2>
    <dl class="border-t border-rule-strong">
      {#each h.givens as g (g.name)}
        <div class="flex flex-wrap gap-x-3 border-b border-rule py-1">
          <dt class="name w-24 shrink-0">{g.name}</dt>
          <dd class="min-w-0 flex-1 break-words">{g.value}</dd>
          <dd class="name text-soft">{g.from.file}:{g.from.line}</dd>
        </div>
      {/each}
    </dl>
  {/if}
  {#if h.traits?.containers?.length}
    <h2 class="mt-5 mb-1 text-lg font-bold">Containers</h2>
    <ol class="leaf ruled border-y border-rule-strong" data-containers>
      {#each h.traits.containers as c, i (c.name)}
        <li class="grid gap-x-4 py-1 md:grid-cols-[10rem_6rem_1fr]">
          <span class="margin-note">{i + 1}</span>
          <span class="name break-all">{c.name}</span>
          <span class:text-attention={c.state !== 'running'}>{c.state}</span>
          <span class="min-w-0 text-soft"
            ><span class="name break-all">{c.image}</span>, {c.by ? `of ground ${c.by}` : 'made by others, and left alone'}</span
          >
        </li>
      {/each}
    </ol>
  {/if}
  <div class="mt-5 mb-1 flex flex-wrap items-baseline gap-x-5">
    <h2 class="text-lg font-bold">Stakes</h2>
    {#each standings.filter((s) => h.rows.some((r) => r.standing === s)) as s (s)}
      <button
        class="cursor-pointer border-b-2 {only === s ? 'border-ink' : 'border-transparent hover:border-rule-strong'}"
        aria-pressed={only === s}
        onclick={() => (only = only === s ? undefined : s)}
      >
        <StandingMark standing={s} count={h.rows.filter((r) => r.standing === s).length} />
      </button>
    {/each}
  </div>
  {#if h.rows.length}<Rows rows={shown(h.rows)} />{:else}<p class="text-soft">It has not been surveyed yet.</p>{/if}
{:catch error}
  <Heading title={host} />
  <Trouble {error} />
{/await}
