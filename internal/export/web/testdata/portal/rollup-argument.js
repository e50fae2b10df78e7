!function(){"use strict";var e,d=(e=window.Portal||{ready(){},score(){}},{loaded:()=>e.ready(),submit:d=>e.score("best-score",d)});d.loaded(),addEventListener("keydown",()=>d.submit(3))}();
