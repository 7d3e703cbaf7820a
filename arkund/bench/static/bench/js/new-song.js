// New song: files arrive one a request with progress; roles are guessed and can be corrected.
import { getJson, post } from "./api.js";
import "./theme.js";

const LEFT_OUT = "";

document.addEventListener("alpine:init", () => {
  window.Alpine.data("newSong", () => ({
    name: "", tempo: "", meter: "4/4", pad: false, resample: false,
    hasFiles: false, busy: false, share: 0, doing: "", problem: "", hasProblem: false, remark: "",
    files: [],

    init() {
      const zone = this.$refs.zone;
      zone.addEventListener("dragover", (event) => { event.preventDefault(); zone.classList.add("over"); });
      zone.addEventListener("dragleave", () => zone.classList.remove("over"));
      zone.addEventListener("drop", async (event) => {
        event.preventDefault();
        zone.classList.remove("over");
        this.take(await dropped(event.dataTransfer));
      });
    },

    chosen(event) {
      this.take([...event.target.files].map((file) => ({ file, name: file.webkitRelativePath || file.name })));
    },

    async take(list) {
      const sounds = list.filter(({ name }) => !/\.(json|txt|md|csv|pdf|png|jpe?g)$|(^|\/)\./i.test(name));
      if (!sounds.length) return this.say("None of these is a sound file. WAV, FLAC and AIFF can be used.");
      this.say("");
      this.busy = true;
      const total = sounds.reduce((sum, { file }) => sum + file.size, 0);
      let done = 0;
      for (const { file, name } of sounds) {
        this.doing = `${name} (${(file.size / 1e6).toFixed(1)} MB)`;
        try {
          const answer = await send(this.$root.dataset.stage, file, name, (bytes) => { this.share = (done + bytes) / total; });
          this.show(answer.files);
        } catch (error) {
          this.say(`${name}: ${error.message}`);
        }
        done += file.size;
      }
      this.busy = false;
      this.doing = "";
    },

    show(files) {
      const earlier = new Map(this.files.filter((f) => f.touched).map((f) => [f.name, f]));
      this.files = files.map((f) => ({ ...f, ...(earlier.has(f.name) ? { mic: earlier.get(f.name).mic, pick: earlier.get(f.name).pick, touched: true } : {}) }));
      this.hasFiles = true;
      const body = document.getElementById("staged");
      body.replaceChildren(...this.files.map((f) => this.row(f)));
      this.judge();
      // A folder is often called what the song is.
      const top = this.files[0]?.name.includes("/") ? this.files[0].name.split("/")[0] : "";
      if (!this.name && top && !/^take\b/i.test(top)) this.name = top;
      const bad = files.filter((f) => f.refusal).length;
      this.remark = `${files.length - bad} files can be used${bad ? `, ${bad} cannot and will be left out` : ""}. Roles were read from the names; check them.`;
    },

    row(file) {
      const row = document.createElement("tr");
      const put = (text, tone) => {
        const cell = row.insertCell();
        cell.textContent = text;
        if (tone) cell.className = tone;
        return cell;
      };
      put(file.name);
      const role = put("");
      if (!file.refusal) {
        const select = document.createElement("select");
        select.className = "field";
        select.setAttribute("aria-label", `Role of ${file.name}`);
        select.append(document.getElementById("roles").content.cloneNode(true), new Option("don’t import", LEFT_OUT));
        if (![...select.options].some((o) => o.value === file.mic)) select.add(new Option(file.mic.replaceAll("_", " "), file.mic));
        select.value = file.mic;
        select.addEventListener("change", () => {
          file.mic = select.value;
          file.touched = true;
          this.judge();
        });
        role.append(select);
        if (file.channels === 2) role.append(this.pick(file, select));
      }
      put(file.seconds ? `${file.seconds.toFixed(1)} s` : "–", "fig");
      put(file.rate ? `${file.rate} Hz` : "–", "fig");
      file.state = put("");
      return row;
    },

    // What is to be known of each file, in its row, as soon as it is so.
    judge() {
      const folder = (file) => file.name.split("/").slice(0, -1).join("/");
      for (const file of this.files) {
        const twin = this.files.find((one) => one !== file && !one.refusal && one.mic === file.mic && one.mic !== LEFT_OUT && folder(one) === folder(file));
        const [words, tone] = file.refusal ? [file.refusal, "text-trouble font-semibold"]
          : file.mic === LEFT_OUT ? ["not imported", "quiet"]
          : twin ? [`${twin.name.split("/").at(-1)} is the same mic: change one of them`, "text-trouble font-semibold"]
          : file.note ? [file.note, "text-proposed"]
          : file.silent ? ["silent", "text-proposed"]
          : file.sure || file.touched ? ["ready", "text-applied"] : ["role not known: choose one", "text-proposed"];
        file.state.textContent = words;
        file.state.className = tone;
      }
    },

    // What is taken of a stereo file: a pair where the role has two sides, else one of them.
    pick(file, role) {
      const paired = this.$root.dataset.paired.split(" ");
      const pick = document.createElement("select");
      pick.className = "field ml-1";
      pick.setAttribute("aria-label", `What is taken of stereo ${file.name}`);
      for (const [value, text] of [["mono", ""], ["left", "left"], ["right", "right"], ["sum", "sum"]]) pick.add(new Option(text, value));
      const word = () => { pick.options[0].textContent = paired.includes(role.value) ? "stereo pair" : "stereo: choose"; };
      word();
      pick.value = file.pick || "mono";
      role.addEventListener("change", word);
      pick.addEventListener("change", () => { file.pick = pick.value; file.touched = true; });
      return pick;
    },

    async make() {
      this.say("");
      const good = this.files.filter((f) => !f.refusal && f.mic !== LEFT_OUT);
      if (!this.name.trim()) {
        document.getElementById("name").focus();
        return this.say("Give the song a name.");
      }
      const rates = good.map((f) => f.rate);
      const usual = rates.sort((a, b) => rates.filter((r) => r === b).length - rates.filter((r) => r === a).length)[0];
      const data = {
        name: this.name, tempo: this.tempo.replace(",", "."), meter: this.meter, pad: this.pad,
        resample: this.resample ? usual : null,
        files: good.map((f) => ({ name: f.name, mic: f.mic, pick: f.pick || "mono" })),
      };
      try {
        this.busy = true;
        this.share = 0;
        const { job } = await post(this.$root.dataset.make, data);
        for (;;) {
          const state = await getJson(`/jobs/${job}/`);
          this.share = state.share;
          this.doing = `${state.message}, ${Math.round(state.share * 100)} %`;
          if (state.state === "done") { location.href = `/${state.result.song}/`; return; }
          if (state.state === "failed" || state.state === "cancelled") {
            const refused = (state.result.refused || []).map((r) => `${r.file} ${r.reason}`).join("\n");
            throw new Error(refused || state.message);
          }
          await new Promise((wait) => setTimeout(wait, 300));
        }
      } catch (error) {
        this.busy = false;
        this.say(error.message);
      }
    },

    say(text) {
      this.problem = text;
      this.hasProblem = Boolean(text);
    },
  }));
});

// fetch cannot tell how far an upload is; the older request can.
function send(url, file, name, progress) {
  return new Promise((resolve, reject) => {
    const data = new FormData();
    data.append("name", name);
    data.append("file", file);
    const request = new XMLHttpRequest();
    request.open("POST", url);
    request.setRequestHeader("X-CSRFToken", document.querySelector("[name=csrfmiddlewaretoken]").value);
    request.upload.addEventListener("progress", (event) => progress(event.loaded));
    request.addEventListener("error", () => reject(new Error("the server does not answer. Is it still running?")));
    request.addEventListener("load", () => {
      let body = {};
      try { body = JSON.parse(request.responseText); } catch { /* told below */ }
      if (request.status === 200) resolve(body);
      else reject(new Error(body.error || "could not be taken in; try again."));
    });
    request.send(data);
  });
}

async function dropped(transfer) {
  const found = [];
  const walk = async (entry, path) => {
    if (entry.isFile) {
      const file = await new Promise((resolve, reject) => entry.file(resolve, reject));
      found.push({ file, name: path + entry.name });
      return;
    }
    const reader = entry.createReader();
    for (;;) {
      const part = await new Promise((resolve, reject) => reader.readEntries(resolve, reject));
      if (!part.length) return;
      for (const child of part) await walk(child, `${path}${entry.name}/`);
    }
  };
  for (const item of [...transfer.items].map((i) => i.webkitGetAsEntry()).filter(Boolean)) await walk(item, "");
  return found;
}
