/** What openapi-fetch is told to send a picture as it is. */
export const sentPicture = (path: { number: number } | { name: string }, picture: Blob) =>
  ({
    params: { path },
    body: picture as never,
    bodySerializer: (body: unknown) => body as Blob,
    headers: { "Content-Type": picture.type },
  }) as never;
