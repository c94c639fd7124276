/** What a plate says: what the step does now while it plays, else what the server says of its settings. */
import type { Processor, Step } from '../api/client';
import type { BlockHeader } from '../audio/protocol';
import { format } from '../controls/value';

/** summary: of the settings, in the processor's words. */
export function plateText(
  step: Step,
  processor: Processor | undefined,
  summary: string,
  header: BlockHeader | null,
): string {
  if (step.bypass) return 'bypassed';
  if (processor?.needs_key && !step.key) return 'no key';
  const gate = header?.gate_states[step.id];
  if (gate !== undefined && processor?.shows_gate) return gate;
  const live = step.lanes ? undefined : header?.steps[step.id];
  return live === undefined ? summary : format(live, 'dB');
}
