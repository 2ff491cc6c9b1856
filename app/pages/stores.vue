<script setup lang="ts">
import type { ErrorRecord } from '~~/core/errors'
import type { StoreView } from '~~/server/views'

useHead({ title: 'Stores · Unbroken Vessel' })
const route = useRoute()
const setQuery = useQuery()
const { data: stores, error, refresh } = useStores({ tells: true })
const making = computed({
  get: () => route.query.make !== undefined,
  set: (open) => void setQuery({ make: open ? '1' : undefined }),
})
const held = computed(() => stores.value?.reduce((sum, store) => sum + store.bytes, 0) ?? 0)
const failure = shallowRef<ErrorRecord | null>(null)
async function start(store: StoreView, kind: 'verify' | 'reindex' | 'prune', dry = false) {
  try {
    const { id } = await post<{ id: string }>(`/api/stores/${store.id}/runs`, kind === 'prune' ? { kind, dry } : { kind })
    await navigateTo(`/runs/${id}`)
  } catch (thrown) {
    failure.value = errorOf(thrown)
  }
}
</script>

<template>
  <main class="px-6 pt-[11px] pb-8">
    <div class="flex items-start justify-between gap-6 pb-3">
      <PageSentence v-if="stores">{{
        stores.length === 0
          ? 'There is no store yet, so nothing can be kept.'
          : `${capital(numberInWords(stores.length))} ${stores.length === 1 ? 'store holds' : 'stores hold'} ${plural(
              stores.reduce((sum, store) => sum + store.points, 0),
              'point',
            )} in ${bytesInWords(held)}.`
      }}</PageSentence>
      <UButton @click="making = true">Make a store</UButton>
    </div>
    <ErrorNote v-if="error && !stores" :error="error" />
    <ErrorNote v-if="failure" :error="failure" class="mb-3" />
    <div v-if="!stores && !error" class="grid gap-3" aria-busy="true"><USkeleton v-for="i in 2" :key="i" class="h-32 w-full" /></div>
    <p v-if="stores?.length === 0" class="soft max-w-xl py-3">
      A store is a folder on local disk in which content is kept compressed, encrypted and only once.
    </p>
    <section
      v-for="store in stores"
      :key="store.id"
      class="grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)_minmax(0,1.2fr)] gap-8 border-t border-[var(--line)] py-4 text-[13px]"
      :aria-label="store.name"
    >
      <div>
        <h2 class="text-[15px] font-semibold">{{ store.name }}</h2>
        <p class="mono soft text-[12px] break-words">{{ store.path }} <CopyIt icon :text="store.path" label="Copy the path" /></p>
        <p class="soft mt-1">a folder on local disk, made {{ dateOf(store.createdAt) }}</p>
        <StoreItself :store="store" @changed="refresh" />
        <p class="mt-2">
          <span v-if="store.verifiedAt && !store.trouble" class="border-b-2 border-[var(--gold-line)]"
            >Verified {{ whenOf(store.verifiedAt) }}</span
          ><span v-else class="soft">{{ store.trouble ? '' : 'Not verified yet' }}</span>
        </p>
        <ErrorNote v-if="store.trouble" :error="store.trouble" class="mt-2" />
        <div v-if="store.vessels.length > 0" class="mt-3 flex flex-wrap gap-2">
          <UButton size="sm" @click="start(store, 'verify')">Verify its content</UButton>
          <UButton
            size="sm"
            variant="ghost"
            title="Where the catalog does not know any more where content lies: reads it from the files of the store. Nothing in the store is changed."
            @click="start(store, 'reindex')"
            >Rebuild the index</UButton
          >
        </div>
        <AtOnce :address="`/api/stores/${store.id}/at-once`" :at-once="store.atOnce" class="mt-3" />
        <StorePrune v-if="store.vessels.length > 0" :store="store" class="mt-4" @prune="(dry) => start(store, 'prune', dry)" />
      </div>
      <div class="self-start">
        <dl class="rule border-y border-[var(--line)]">
          <div class="flex justify-between py-1.5">
            <dt class="soft">Stored</dt>
            <dd class="num">
              <b class="font-semibold">{{ bytesInWords(store.bytes) }}</b>
            </dd>
          </div>
          <div class="flex justify-between py-1.5">
            <dt class="soft">Content before compression</dt>
            <dd class="num">{{ bytesInWords(store.plain) }}</dd>
          </div>
          <div class="flex justify-between py-1.5">
            <dt class="soft">Pieces of content, in files</dt>
            <dd class="num">{{ countInWords(store.chunks) }}, {{ countInWords(store.packs) }}</dd>
          </div>
          <div v-if="store.space" class="flex justify-between py-1.5">
            <dt class="soft">Free on its disk</dt>
            <dd class="num">{{ bytesInWords(store.space.free) }} of {{ bytesInWords(store.space.total) }}</dd>
          </div>
        </dl>
        <StorePrice :store="store" class="mt-2" />
      </div>
      <div>
        <h3 class="border-b border-[var(--line)] pb-1.5 font-semibold">Holds</h3>
        <ul class="rule">
          <li v-for="vessel in store.vessels" :key="vessel.slug" class="flex justify-between py-1.5" data-row>
            <NuxtLink :to="`/vessels/${vessel.slug}`" class="hover:underline">{{ vessel.name }}</NuxtLink><span class="num soft">{{
              plural(vessel.points, 'point')
            }}</span>
          </li>
        </ul>
        <p v-if="store.vessels.length === 0" class="soft py-1.5">No point lies in it yet.</p>
      </div>
      <StoreGrowth v-if="store.grown.length > 0" :store="store" class="col-span-2 col-start-2" />
    </section>
    <DeletedPlaces kind="store" />
    <MakeStore v-model:open="making" @made="refresh" />
  </main>
</template>
