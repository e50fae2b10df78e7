(()=>{var t=()=>globalThis.Portal;async function e(){let o=t();o&&await o.ready()}function a(o){t()?.score("best-score",o)}requestAnimationFrame(()=>e());addEventListener("keydown",()=>a(3));})();
