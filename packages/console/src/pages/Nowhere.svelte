<script lang="ts">
  import Empty from '../parts/Empty.svelte';
</script>

<Empty title="There is no such page">It may have been part of another version. <a class="anchor" href="/">To the devices</a></Empty>
