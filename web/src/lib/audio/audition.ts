/** One tab's listening: the worker with the socket, the worklet with the queue. */
import workletUrl from './output.worklet.ts?worker&url';
import SocketWorker from './socket.worker.ts?worker';
import type { BlockHeader, FromWorker, ServerMessage, ToWorker } from './protocol';

export interface Listener {
  opened(): void;
  /** final: the server refused, and it will not be tried again. */
  lost(reason: string, final: boolean): void;
  message(message: ServerMessage): void;
  heard(header: BlockHeader, position_s: number, frames: number, underruns: number, energy: number): void;
}

export class Audition {
  private worker = new SocketWorker();
  private context: AudioContext;
  private ready: Promise<void>;

  constructor(sessionId: number, tab: string, rate: number, listener: Listener) {
    this.context = new AudioContext({ sampleRate: rate, latencyHint: 'interactive' });
    const channel = new MessageChannel();
    this.worker.onmessage = (event: MessageEvent<FromWorker>) => {
      const message = event.data;
      if (message.type === 'open') listener.opened();
      else if (message.type === 'lost') listener.lost(message.reason, message.final);
      else if (message.type === 'message') listener.message(message.message);
      else
        listener.heard(message.header, message.position_s, message.frames, message.underruns, message.energy);
    };
    this.ready = this.start(channel.port1);
    const scheme = location.protocol === 'https:' ? 'wss' : 'ws';
    const url = `${scheme}://${location.host}/api/sessions/${sessionId}/audition?tab=${tab}`;
    this.post({ type: 'connect', url, port: channel.port2, rate }, [channel.port2]);
  }

  private post(message: ToWorker, transfer: Transferable[] = []): void {
    this.worker.postMessage(message, transfer);
  }

  private async start(port: MessagePort): Promise<void> {
    await this.context.audioWorklet.addModule(workletUrl);
    const node = new AudioWorkletNode(this.context, 'output', { numberOfInputs: 0, outputChannelCount: [2] });
    node.port.postMessage(port, [port]);
    node.connect(this.context.destination);
  }

  /** Call from a gesture, so that the browser lets sound out. */
  async wake(): Promise<void> {
    await Promise.all([this.ready, this.context.resume()]);
  }

  send(message: Record<string, unknown>): void {
    this.post({ type: 'send', message });
  }

  close(): void {
    this.post({ type: 'close' });
    void this.context.close();
  }
}
