<script lang="ts">
  import { api, unwrap, type Schema } from '../lib/api'
  import Heading from '../parts/Heading.svelte'
  import Trouble from '../parts/Trouble.svelte'

  let sought = $state('')
  const keys = unwrap(api.GET('/keys'))

  function tables(all: Schema['Key'][]): [string, Schema['Key'][]][] {
    const words = sought.toLowerCase().split(/\s+/).filter(Boolean)
    const out = new Map<string, Schema['Key'][]>()
    for (const k of all) {
      if (!k.table || !words.every((w) => `${k.name} ${k.about}`.toLowerCase().includes(w))) continue
      out.set(k.table, [...(out.get(k.table) ?? []), k])
    }
    return [...out]
  }
</script>

<Heading title="Keys of a declaration" about="Capitals stand for what you choose. The same is said by northstake help KEY." />
<label class="mb-4 flex max-w-md items-baseline gap-3"
  ><span class="text-soft">Look for</span><input
    class="min-w-0 flex-1 border-b border-rule-strong bg-transparent py-1"
    type="search"
    bind:value={sought}
  /></label
>
{#await keys}
  <p class="text-soft">Reading …</p>
{:then all}
  {#each tables(all) as [table, list] (table)}
    <h2 class="name mt-6 mb-1 text-lg font-bold break-words">{table}</h2>
    <dl class="border-t border-rule-strong">
      {#each list as k (k.name)}
        <div class="grid gap-x-6 border-b border-rule py-1.5 md:grid-cols-[10rem_1fr]">
          <dt class="name font-bold">{k.word}</dt>
          <dd>
            {k.about}
            {#if k.values?.length}<span>One of <code>{k.values.join(', ')}</code>.</span>{/if}
            <span class="text-soft">Holds {k.holds}.{k.required ? ' Required.' : k.default ? ` Left out: ${k.default}.` : ''}</span>
            {#each Object.entries(k.families ?? {}) as [family, words] (family)}<div class="text-soft">On {family}: {words}.</div>{/each}
            {#if k.example}<code class="block break-words">{k.word} = {k.example}</code>{/if}
          </dd>
        </div>
      {/each}
    </dl>
  {:else}
    <p class="text-soft">No key is like that.</p>
  {/each}
{:catch error}
  <Trouble {error} />
{/await}
