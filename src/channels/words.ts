/** Why a connection to somebody else's server failed, in words: what TLS and sockets say is not for people. */

/** By `code` of the error (Node.js, "Errors"; OpenSSL's X509_V_* as Node.js names them). */
const known: Readonly<Record<string, string>> = {
  ERR_SSL_WRONG_VERSION_NUMBER: 'it does not speak TLS on that port',
  EPROTO: 'it does not speak TLS on that port',
  ERR_SSL_TLSV1_ALERT_PROTOCOL_VERSION: 'it speaks only versions of TLS that are too old',
  ERR_SSL_UNSUPPORTED_PROTOCOL: 'it speaks only versions of TLS that are too old',
  ERR_TLS_CERT_ALTNAME_INVALID: 'its certificate is of another name',
  CERT_HAS_EXPIRED: 'its certificate has expired',
  CERT_NOT_YET_VALID: 'its certificate is not valid yet',
  DEPTH_ZERO_SELF_SIGNED_CERT: 'its certificate is signed by itself',
  SELF_SIGNED_CERT_IN_CHAIN: 'its certificate is signed by an authority that is not trusted here',
  UNABLE_TO_VERIFY_LEAF_SIGNATURE: 'its certificate is signed by an authority that is not trusted here',
  UNABLE_TO_GET_ISSUER_CERT_LOCALLY: 'its certificate is signed by an authority that is not trusted here',
  ECONNREFUSED: 'nothing listens on that port',
  ECONNRESET: 'it closed the connection',
  EHOSTUNREACH: 'there is no way to that machine',
  ENETUNREACH: 'there is no way to that network',
  ETIMEDOUT: 'it did not answer in time',
  ENOTFOUND: 'its name leads nowhere',
  EAI_AGAIN: 'its name could not be looked up just now',
};

const lengthLimit = 200;

/** One line without what libraries put around it: `error:0A00010B:SSL routines::wrong version number` is `wrong version number`. */
export function wordsOf(error: unknown): string {
  const { code = '', message = '' } = (error ?? {}) as NodeJS.ErrnoException;
  if (known[code]) return known[code];
  const [line = ''] = String(message || error).split('\n');
  const tls = /(?:^|\s)(?:[0-9A-F]+:)?error:[0-9A-F]+:[^:]*:[^:]*:([^:]+)/i.exec(line)?.[1];
  return (tls ?? line).trim().slice(0, lengthLimit);
}
