/** Amounts of money: they arrive as decimals in text and are only ever shown, never added up here. */

export const money = (amount: string | number, currency: string, digits = 2) =>
  Number(amount).toLocaleString("en-GB", { style: "currency", currency, minimumFractionDigits: digits, maximumFractionDigits: Math.max(2, digits) });

export const COST_PARTS = ["material", "energy", "machine", "hands", "overhead"] as const;
export type CostPart = (typeof COST_PARTS)[number];
export const COST_WORDS: Record<CostPart, string> = { material: "material", energy: "energy", machine: "machine", hands: "hands", overhead: "overhead" };

/** Of what a price is. */
export const PER: Record<string, string> = { material: "a kg", energy: "a kWh", machine: "an hour", hands: "a minute", overhead: "of all the rest" };
