/** Holds the audition socket off the page's thread, so that a busy page never tears the sound. */
import { Accounting } from './accounting';
import { Reconnecting, type Line } from './reconnecting';
import type { BlockHeader, FromWorker, Heard, ServerMessage, ToWorker, ToWorklet } from './protocol';

let socket: Reconnecting | null = null;
let port: MessagePort | null = null;
let accounting = new Accounting(48000);

function tell(message: FromWorker): void {
  self.postMessage(message);
}

function takeBlock(data: ArrayBuffer): void {
  const length = new DataView(data).getUint32(0, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length))) as BlockHeader;
  const left = new Float32Array(data.slice(4 + length, 4 + length + 4 * header.frames));
  const right = new Float32Array(data.slice(4 + length + 4 * header.frames));
  // The sound itself cannot be looked at from outside a worklet: its energy can.
  let energy = 0;
  for (let i = 0; i < left.length; i += 1) energy += left[i]! * left[i]! + right[i]! * right[i]!;
  accounting.take(header, energy);
  const { epoch, sequence, version, seam } = header;
  const message: ToWorklet = { type: 'block', epoch, sequence, version, seam, left, right };
  port?.postMessage(message, [left.buffer, right.buffer]);
}

function takeReport(heard: Heard): void {
  const { epoch, frames } = heard;
  socket?.send(JSON.stringify({ type: 'heard', epoch, frames, ...accounting.since(heard) }));
  const sounding = accounting.report(heard);
  if (sounding) tell({ type: 'heard', ...sounding, frames, underruns: heard.underruns });
}

function takeText(text: string): void {
  const message = JSON.parse(text) as ServerMessage;
  if (message.type === 'playing' || message.type === 'stopped')
    port?.postMessage({ type: 'epoch', epoch: message.epoch } satisfies ToWorklet);
  if (message.type === 'ended') port?.postMessage({ type: 'last', epoch: message.epoch } satisfies ToWorklet);
  tell({ type: 'message', message });
}

function connect(url: string, rate: number): void {
  socket = new Reconnecting(
    () => {
      const line = new WebSocket(url);
      line.binaryType = 'arraybuffer';
      return line as Line;
    },
    {
      opened: () => {
        // Another server counts its plays anew.
        accounting = new Accounting(rate);
        port?.postMessage({ type: 'reset' } satisfies ToWorklet);
        tell({ type: 'open' });
      },
      lost: (reason, final) => tell({ type: 'lost', reason, final }),
      message: (data) => (typeof data === 'string' ? takeText(data) : takeBlock(data)),
    },
  );
}

self.onmessage = (event: MessageEvent<ToWorker>) => {
  const message = event.data;
  if (message.type === 'connect') {
    port = message.port;
    port.onmessage = (report: MessageEvent<Heard>) => takeReport(report.data);
    connect(message.url, message.rate);
  } else if (message.type === 'send') {
    socket?.send(JSON.stringify(message.message));
  } else {
    socket?.close();
    self.close();
  }
};
