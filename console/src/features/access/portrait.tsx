/** A person's picture, or the first letters of their name where there is none. */
export function Portrait({ person, size = 36 }: { person: { login?: string; name: string; pictured_at?: string | null }; size?: number }) {
  const box = { width: size, height: size };
  if (person.pictured_at && person.login)
    return (
      <img
        src={`/api/people/${encodeURIComponent(person.login)}/picture?at=${encodeURIComponent(person.pictured_at)}`}
        alt=""
        style={box}
        className="shrink-0 rounded-full object-cover"
      />
    );
  const letters = person.name
    .split(/\s+/)
    .slice(0, 2)
    .map((word) => word[0]?.toUpperCase() ?? "")
    .join("");
  return (
    <span aria-hidden style={{ ...box, fontSize: size * 0.38 }} className="grid shrink-0 place-items-center rounded-full bg-sunk font-semibold text-faded">
      {letters}
    </span>
  );
}
