/** The notes, in the environment's own database. */
import pg from '../vendor/pg.js';

export function openNotes(url) {
  const pool = new pg.Pool({ connectionString: url, max: 5 });
  // A connection that is lost while nobody uses it is replaced by the next one.
  pool.on('error', (error) => console.error(error.message));
  return {
    all: async () => (await pool.query('select id, text, at from notes order by id desc limit 100')).rows,
    add: async (text) => (await pool.query('insert into notes (text) values ($1) returning id, text, at', [text])).rows[0],
    close: () => pool.end(),
  };
}
