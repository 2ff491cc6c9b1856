<script setup lang="ts">
import type { SourceForm } from '~/composables/useSourceForm'

const form = defineModel<SourceForm>({ required: true })
defineProps<{ isKept: boolean }>()
</script>

<template>
  <div class="grid gap-3.5">
    <ChoiceBar
      v-model="form.clusterWay"
      :choices="[
        ['kubeconfig', 'kubeconfig'],
        ['token', 'address and token'],
      ]"
      label="How to reach it"
      class="justify-self-start"
    />
    <template v-if="form.clusterWay === 'kubeconfig'">
      <UFormField
        label="Kubeconfig"
        name="kubeconfig"
        help="As kubectl config view --raw --flatten --minify prints it: with everything written out."
        ><UTextarea v-model="form.kubeconfig" name="kubeconfig" class="mono w-full" :rows="9" spellcheck="false"
      /></UFormField>
      <UFormField label="Context" name="context" hint="if not the current one"
        ><UInput v-model="form.context" name="context" class="w-full" autocomplete="off"
      /></UFormField>
    </template>
    <template v-else>
      <UFormField label="Address of its API" name="cluster.server"
        ><UInput v-model="form.server" name="server" class="w-full" placeholder="https://pier.ferries.example:6443"
      /></UFormField>
      <UFormField
        label="Token"
        name="cluster.token"
        :hint="isKept ? 'empty: what is kept stays' : undefined"
        help="Of a service account: kubectl create token unbroken-vessel --duration=8760h"
        ><UTextarea v-model="form.token" name="token" class="mono w-full" :rows="3" spellcheck="false"
      /></UFormField>
      <UFormField label="Certificate authority" name="cluster.authority" hint="PEM, if it is the cluster’s own"
        ><UTextarea v-model="form.authority" name="authority" class="mono w-full" :rows="3" spellcheck="false"
      /></UFormField>
    </template>
    <UFormField
      label="Image of the pods that read volumes"
      name="readerImage"
      hint="from your own registry, if it reaches no other"
      help="Any that has GNU tar, find and b2sum."
      ><UInput v-model="form.readerImage" name="readerImage" class="mono w-full" placeholder="debian:12-slim" autocomplete="off"
    /></UFormField>
  </div>
</template>
