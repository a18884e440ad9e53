// Closes the menu when the page is left.
addEventListener("pagehide", () => document.activeElement?.blur());
