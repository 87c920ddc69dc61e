/** A program that answers its text; `errors`: the share of its answers that are 500, but for the path by which it is asked whether it is ready. */
export const erring =
  (ready: string) =>
  (text: string, errors = 0) =>
    `import { createServer } from 'node:http';
let count = 0;
createServer((request, response) => {
  if (request.url !== '${ready}' && ++count % 100 < ${errors * 100}) response.statusCode = 500;
  response.end('${text}');
}).listen(process.env.PORT);
process.on('SIGTERM', () => process.exit(0));
`;
