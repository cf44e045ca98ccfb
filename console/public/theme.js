// Before the first paint: the theme that was chosen here, else the system's.
const chosen = localStorage.getItem('dovrak-theme');
if (chosen) document.documentElement.dataset.theme = chosen;
