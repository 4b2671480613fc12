// Light, dark, or as the system has it: chosen by a button, kept in a cookie so that the server draws it right at once.
const order = { system: "light", light: "dark", dark: "system" };

export function theme() {
  const button = document.querySelector("[data-theme-switch]");
  button?.addEventListener("click", () => {
    const now = order[button.dataset.themeSwitch] ?? "system";
    button.dataset.themeSwitch = now;
    button.title = `Theme: ${now}`;
    button.querySelector("use")?.setAttribute("href", button.querySelector("use").getAttribute("href").replace(/#.*/,
      `#${now}`));
    if (now === "system") delete document.documentElement.dataset.theme;
    else document.documentElement.dataset.theme = now;
    document.cookie = `theme=${now};path=/;max-age=31536000;samesite=lax`;
  });
}
