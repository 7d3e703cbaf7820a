// A song whose sheet cannot be read: its log, and the way back.
import { notify, post } from "./api.js";

const page = document.getElementById("way-back");
document.getElementById("undo").addEventListener("click", async () => {
  try {
    await post(page.dataset.undo);
    location.reload();
  } catch (error) {
    notify(error.message);
  }
});
