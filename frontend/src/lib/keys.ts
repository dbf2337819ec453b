const kept = new Map<string, string>();

/**
 * Sends something under a key of its own: the same key until the server has taken it, so that sending it again after a lost answer
 * stores nothing twice. Once it is taken, the same content is another entry.
 */
export async function sendOnce<T>(what: unknown, send: (key: string) => Promise<T>): Promise<T> {
  const content = JSON.stringify(what);
  const key = kept.get(content) ?? crypto.randomUUID();
  kept.set(content, key);
  const answer = await send(key);
  kept.delete(content);
  return answer;
}
