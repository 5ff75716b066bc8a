// The storage page: freeing what can be made again, and removing deliveries.

import { post, say } from "./api.js";

document.querySelector("main").addEventListener("click", async (event) => {
  const button = event.target.closest("[data-post], [data-remove]");
  if (!button) return;
  if (button.dataset.remove && !button.dataset.sure) {
    const label = button.textContent;
    button.dataset.sure = "yes";
    button.textContent = "Really remove";
    setTimeout(() => {
      delete button.dataset.sure;
      button.textContent = label;
    }, 8000);
    return;
  }
  try {
    say((await post(button.dataset.post ?? button.dataset.remove)).said ?? "Done.");
    setTimeout(() => location.reload(), 900);
  } catch (error) {
    say(error.message, "error");
  }
});
