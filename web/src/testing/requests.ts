/** What answers the requests of a page in a test. */
export const onRequest = {
  answer: (request: Request): Promise<Response> =>
    Promise.resolve(Response.json({ title: `nothing answers ${request.url}` }, { status: 404 })),
};
