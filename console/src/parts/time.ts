/** A time to the minute, with its zone: days of the model are days of UTC, and so is every time. */
export const moment = (at: string): string => `${new Date(at).toISOString().slice(0, 16).replace("T", " ")} UTC`;
