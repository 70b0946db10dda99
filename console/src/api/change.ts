import { useMutation, useQueryClient } from "@tanstack/react-query";


/** A change: runs `change`, then has these kinds of records read again. */
export function useChange<A>(change: (argument: A) => Promise<unknown>, ...touches: string[]) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSettled: () => Promise.all(touches.map((kind) => client.invalidateQueries({ queryKey: [kind] }))),
  });
}
