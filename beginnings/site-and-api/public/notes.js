const { PUBLIC_RELEASE } = await (await fetch('/settings.json')).json();
document.querySelector('#release').textContent = `Release ${PUBLIC_RELEASE}`;

async function show() {
  const notes = await (await fetch('/api/notes')).json();
  document.querySelector('ul').replaceChildren(
    ...notes.map(({ text }) => {
      const item = document.createElement('li');
      // As text alone: a note is anybody's.
      item.textContent = text;
      return item;
    }),
  );
}

document.querySelector('form').addEventListener('submit', async (event) => {
  event.preventDefault();
  const body = JSON.stringify({ text: new FormData(event.target).get('text') });
  await fetch('/api/notes', { method: 'POST', headers: { 'content-type': 'application/json' }, body });
  event.target.reset();
  await show();
});
await show();
