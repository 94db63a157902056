/** Shows the API's own document, and calls it as whoever is signed in to the console, or with a token that is given. */
const api = "/api/v1";

/** The header without which a session's changes are refused; none where a token is used, or nobody is signed in. */
async function proof() {
  const answer = await fetch(`${api}/session`, { headers: { Accept: "application/json" } });
  return answer.ok ? (await answer.json()).csrf : null;
}

const token = proof();
window.SwaggerUIBundle({
  url: `${api}/openapi.json`,
  dom_id: "#api",
  deepLinking: true,
  docExpansion: "none",
  defaultModelsExpandDepth: 0,
  displayRequestDuration: true,
  filter: true,
  tryItOutEnabled: true,
  validatorUrl: null,
  requestInterceptor: async (request) => {
    const held = await token;
    if (held && !request.headers.Authorization) request.headers["X-CSRF-Token"] = held;
    return request;
  },
});
