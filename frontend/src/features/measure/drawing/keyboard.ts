const BUTTONS = '[role="button"]';

/** One tab stop in the drawing: what had the focus last, or its first button. */
export function keepTabStop(drawing: Element | null, focused?: Element): void {
  if (!drawing) return;
  const buttons = [...drawing.querySelectorAll<SVGElement>(BUTTONS)];
  const held = focused ?? buttons.find((button) => button.tabIndex === 0) ?? buttons[0];
  for (const button of buttons) button.tabIndex = button === held ? 0 : -1;
}

/** The nearest button in a direction: what lies sideways counts twice, so that a line is followed before it is left. */
export function nearest(
  from: { x: number; y: number },
  others: { x: number; y: number }[],
  key: string,
): number {
  const [dx, dy] = DIRECTION[key] ?? [0, 0];
  let best = -1;
  let least = Number.POSITIVE_INFINITY;
  for (const [index, other] of others.entries()) {
    const along = (other.x - from.x) * dx + (other.y - from.y) * dy;
    const aside = Math.abs((other.x - from.x) * dy) + Math.abs((other.y - from.y) * dx);
    if (along > 1 && along + 2 * aside < least) {
      least = along + 2 * aside;
      best = index;
    }
  }
  return best;
}

const DIRECTION: Record<string, [number, number]> = {
  ArrowDown: [0, 1],
  ArrowUp: [0, -1],
  ArrowRight: [1, 0],
  ArrowLeft: [-1, 0],
};

/** Arrow keys move the focus over the drawing, Space and Enter press what has it. */
export function moveOrPress(event: React.KeyboardEvent<SVGSVGElement>): void {
  const target = (event.target as Element).closest<SVGElement>(BUTTONS);
  if (!target) return;
  if (event.key === "Enter" || event.key === " ") {
    event.preventDefault();
    target.dispatchEvent(new MouseEvent("click", { bubbles: true }));
    return;
  }
  if (!(event.key in DIRECTION)) return;
  event.preventDefault();
  const buttons = [...event.currentTarget.querySelectorAll<SVGElement>(BUTTONS)];
  const found = buttons[nearest(centre(target), buttons.map(centre), event.key)];
  found?.focus();
}

function centre(element: Element): { x: number; y: number } {
  const box = element.getBoundingClientRect();
  return { x: box.x + box.width / 2, y: box.y + box.height / 2 };
}
