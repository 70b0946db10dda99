/** Which of several cameras; one alone is only named. */
export function CameraChoice({ cameras, chosen, choose }: { cameras: string[]; chosen: string; choose: (name: string) => void }) {
  if (cameras.length < 2) return <span className="text-faded">{chosen}</span>;
  return (
    <div role="group" aria-label="Camera" className="flex flex-wrap items-center gap-1">
      {cameras.map((name) => (
        <button
          key={name}
          type="button"
          aria-pressed={name === chosen}
          onClick={() => choose(name)}
          className="min-h-8 rounded-md px-2.5 text-faded hover:text-ink aria-pressed:bg-sunk aria-pressed:font-semibold aria-pressed:text-ink"
        >
          {name}
        </button>
      ))}
    </div>
  );
}
