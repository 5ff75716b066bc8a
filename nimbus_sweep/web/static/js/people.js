// Signing in and out.

import { post, say } from "./api.js";

document.getElementById("sign-in")?.addEventListener("submit", async (event) => {
  event.preventDefault();
  const form = event.target;
  const refused = document.getElementById("refused");
  const button = form.querySelector("button");
  button.disabled = true;
  try {
    location.href = (await post("/sign-in", { ...Object.fromEntries(new FormData(form)), onward: form.dataset.onward })).open;
  } catch (error) {
    refused.textContent = error.message;
    refused.hidden = false;
    form.elements.password.select();
  }
  button.disabled = false;
});

document.getElementById("sign-out")?.addEventListener("click", async () => {
  try {
    location.href = (await post("/sign-out")).open;
  } catch (error) {
    say(error.message, "error");
  }
});
