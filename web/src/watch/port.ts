/** A port as it was typed. What is no port number is sent as 0, which the server refuses with its remedy. */
export const typedPort = (text: string): number =>
  /^\d{1,5}$/.test(text.trim()) && Number(text) <= 65_535 ? Number(text) : 0
