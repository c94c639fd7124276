<script lang="ts">
  /** What is shown as files: the table as CSV, all figures as JSON, the picture as PNG. */
  import { saveFile, saveText } from '../state/save';

  interface Props {
    /** Name of the files, without their ending. */
    name: string;
    disabled: boolean;
    csv: () => Promise<string | undefined>;
    json: () => unknown;
    /** Paints the picture and gives it to the function. */
    png: (take: (image: Blob | null) => void) => void;
  }
  let { name, disabled, csv, json, png }: Props = $props();

  async function saveCsv(): Promise<void> {
    const table = await csv();
    if (table) saveText(table, `${name}.csv`, 'text/csv');
  }
</script>

<button class="button" {disabled} onclick={saveCsv}>CSV</button>
<button
  class="button"
  {disabled}
  onclick={() => saveText(JSON.stringify(json(), null, 1), `${name}.json`, 'application/json')}>JSON</button
>
<button class="button" {disabled} onclick={() => png((image) => image && saveFile(image, `${name}.png`))}
  >PNG</button
>
