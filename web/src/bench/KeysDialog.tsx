import { Modal } from "antd";

const shortcuts: [string, string][] = [
  ["T", "test the region, or the whole frame"],
  ["S", "stop the test"],
  ["G", "go on: twice the samples for the shown proof"],
  ["L", "live mode on or off"],
  ["W", "whole frame: forget the region"],
  ["K", "lock the region"],
  ["P", "pull the shown test as a proof"],
  ["F", "star the shown proof"],
  ["1 … 5", "picture, grain, samples, albedo, normal"],
  ["C", "compare: wipe, side by side, flicker, difference, off"],
  ["X", "swap A and B"],
  ["O", "loupe: the same spot of all compared"],
  ["[ ]", "show the proof before, the proof after"],
  ["E, N, B, A, U", "tray: proofs, causes of the noise, bounces, advice, clean-up"],
  ["V", "the noisy original, and back"],
  ["D", "all drafts off"],
  ["Y, M", "run a pilot, fit to the budget"],
  ["Z, Shift Z", "undo, redo of the tuning"],
  ["Arrows", "nudge the region, with Shift by 10 pixels"],
  ["Wheel, right drag", "zoom to pixels, pan"],
  ["?", "this list"],
];

export function KeysDialog({ close }: { close: () => void }) {
  return (
    <Modal open title="Keys" footer={null} onCancel={close}>
      <table className="keys">
        <tbody>
          {shortcuts.map(([k, what]) => (
            <tr key={k}>
              <td>
                <kbd>{k}</kbd>
              </td>
              <td>{what}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Modal>
  );
}
