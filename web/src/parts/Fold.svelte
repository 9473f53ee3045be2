<script lang="ts">
  import ChevronRight from '@lucide/svelte/icons/chevron-right'
  import { Collapsible } from 'bits-ui'
  import type { Snippet } from 'svelte'

  let { title, children, open = false }: { title: string; children: Snippet; open?: boolean } = $props()
</script>

<Collapsible.Root {open}>
  <Collapsible.Trigger class="group inline-flex cursor-pointer items-center gap-1 text-left text-sm text-soft hover:text-ink">
    <ChevronRight size={14} class="transition-transform group-data-[state=open]:rotate-90" />{title}
  </Collapsible.Trigger>
  <Collapsible.Content>{@render children()}</Collapsible.Content>
</Collapsible.Root>
