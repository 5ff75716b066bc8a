// Loaded before the page's modules: a button pressed while they still load is pressed again once they answer.

{
  let pressed = [];
  const keep = (event) => {
    const button = event.target.closest("button");
    if (!button) return;
    event.preventDefault();
    event.stopImmediatePropagation();
    pressed.push(button);
  };
  document.addEventListener("click", keep, true);
  // By then the modules have run.
  document.addEventListener("DOMContentLoaded", () => {
    document.removeEventListener("click", keep, true);
    for (const button of pressed) button.click();
    pressed = [];
  });
}
