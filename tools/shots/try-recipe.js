// Tries a recipe on the page on which it is written, and looks at what comes of it.
(() => {
  const section = document.querySelector('section[aria-label="Try it"]');
  const fill = (field, text) => {
    const kind = Object.getPrototypeOf(field);
    Object.getOwnPropertyDescriptor(kind, "value").set.call(field, text);
    field.dispatchEvent(new Event(field.tagName === "SELECT" ? "change" : "input", { bubbles: true }));
  };
  const soon = (act) => setTimeout(act, 200);
  fill(section.querySelector("select"), "salt-clock");
  soon(() => {
    const [scene, , shot, size] = section.querySelectorAll("input");
    fill(scene, "salt-clock/salt_010.pov");
    fill(shot, "1-120");
    fill(size, "480x270");
    soon(() => {
      section.querySelector("button[type=submit]").click();
      setTimeout(() => section.scrollIntoView(), 6000); // when there is something to see
    });
  });
})();
