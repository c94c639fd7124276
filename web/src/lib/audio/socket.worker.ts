/** Holds the audition socket off the page's thread, so that a busy page never tears the sound. */
import type { BlockHeader, FromWorker, Heard, ServerMessage, ToWorker, ToWorklet } from './protocol';

let socket: WebSocket | null = null;
let port: MessagePort | null = null;
let headers: BlockHeader[] = [];
let energies = new Map<number, number>();
/** Sum of squares of all blocks of this epoch that were heard to their end. */
let heardEnergy = 0;
let reported = { epoch: -1, underruns: 0 };
let rate = 48000;

function tell(message: FromWorker): void {
  self.postMessage(message);
}

function takeBlock(data: ArrayBuffer): void {
  const length = new DataView(data).getUint32(0, true);
  const header = JSON.parse(new TextDecoder().decode(new Uint8Array(data, 4, length))) as BlockHeader;
  const left = new Float32Array(data.slice(4 + length, 4 + length + 4 * header.frames));
  const right = new Float32Array(data.slice(4 + length + 4 * header.frames));
  if (headers.length && headers[0]!.epoch !== header.epoch) {
    headers = [];
    energies = new Map();
    heardEnergy = 0;
  }
  headers.push(header);
  // The sound itself cannot be looked at from outside a worklet: its energy can.
  let energy = 0;
  for (let i = 0; i < left.length; i += 1) energy += left[i]! * left[i]! + right[i]! * right[i]!;
  energies.set(header.sequence, energy);
  const message: ToWorklet = { type: 'block', epoch: header.epoch, sequence: header.sequence, left, right };
  port?.postMessage(message, [left.buffer, right.buffer]);
}

function takeReport(heard: Heard): void {
  if (reported.epoch !== heard.epoch) reported = { epoch: heard.epoch, underruns: 0 };
  const underruns = heard.underruns - reported.underruns;
  reported.underruns = heard.underruns;
  if (socket?.readyState === WebSocket.OPEN)
    socket.send(JSON.stringify({ type: 'heard', epoch: heard.epoch, frames: heard.frames, underruns }));
  while (headers.length && headers[0]!.sequence < heard.sequence) {
    const { sequence } = headers.shift()!;
    heardEnergy += energies.get(sequence) ?? 0;
    energies.delete(sequence);
  }
  const header = headers[0];
  if (!header || header.epoch !== heard.epoch || header.sequence !== heard.sequence) return;
  const position_s = header.position_s + heard.offset / rate;
  tell({
    type: 'heard',
    header,
    position_s,
    frames: heard.frames,
    underruns: heard.underruns,
    energy: heardEnergy,
  });
}

function connect(url: string): void {
  socket = new WebSocket(url);
  socket.binaryType = 'arraybuffer';
  socket.onopen = () => tell({ type: 'open' });
  socket.onclose = (event) => tell({ type: 'closed', reason: event.reason });
  socket.onmessage = (event: MessageEvent<ArrayBuffer | string>) => {
    if (typeof event.data !== 'string') {
      takeBlock(event.data);
      return;
    }
    const message = JSON.parse(event.data) as ServerMessage;
    if (message.type === 'playing' || message.type === 'stopped')
      port?.postMessage({ type: 'epoch', epoch: message.epoch } as ToWorklet);
    if (message.type === 'ended') port?.postMessage({ type: 'last', epoch: message.epoch } as ToWorklet);
    tell({ type: 'message', message });
  };
}

self.onmessage = (event: MessageEvent<ToWorker>) => {
  const message = event.data;
  if (message.type === 'connect') {
    port = message.port;
    rate = message.rate;
    port.onmessage = (report: MessageEvent<Heard>) => takeReport(report.data);
    connect(message.url);
  } else if (message.type === 'send') {
    if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify(message.message));
  } else {
    socket?.close();
    self.close();
  }
};
