/** Holds the audition socket off the page's thread, so that a busy page never tears the sound. */
import { Accounting } from './accounting';
import type { BlockHeader, FromWorker, Heard, ServerMessage, ToWorker, ToWorklet } from './protocol';

let socket: WebSocket | null = null;
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
  const underruns = accounting.gaps(heard);
  if (socket?.readyState === WebSocket.OPEN)
    socket.send(JSON.stringify({ type: 'heard', epoch, frames, underruns }));
  const sounding = accounting.report(heard);
  if (sounding) tell({ type: 'heard', ...sounding, frames, underruns: heard.underruns });
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
    accounting = new Accounting(message.rate);
    port.onmessage = (report: MessageEvent<Heard>) => takeReport(report.data);
    connect(message.url);
  } else if (message.type === 'send') {
    if (socket?.readyState === WebSocket.OPEN) socket.send(JSON.stringify(message.message));
  } else {
    socket?.close();
    self.close();
  }
};
