(()=>{function o(e){return{loaded:()=>e.ready(),submit:n=>e.score("best-score",n)}}var t=o(window.Portal||{ready(){},score(){}});t.loaded();addEventListener("keydown",()=>t.submit(3));})();
