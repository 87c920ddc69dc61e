/** What a request comes to: a status and a body. Without a socket, so that it can be tested alone. */
export async function answer(method, path, body, notes) {
  if (path === '/health') return { status: 200, body: { ok: true } };
  if (path !== '/notes') return { status: 404, body: { error: 'There is nothing here; try /notes.' } };
  if (method === 'GET') return { status: 200, body: await notes.all() };
  if (method !== 'POST') return { status: 405, body: { error: 'GET lists the notes, POST adds one.' } };
  const text = typeof body?.text === 'string' ? body.text.trim() : '';
  if (text === '' || text.length > 500)
    return { status: 422, body: { error: 'A note is { "text": … } of 1 to 500 letters.' } };
  return { status: 201, body: await notes.add(text) };
}
