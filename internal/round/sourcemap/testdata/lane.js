(()=>{function o(t,r){let e=t[r];e.lit=!e.lit;for(let n of e.neighbours)t[n].lit=!t[n].lit;return t.filter(n=>n.lit).length}var i=[0,1,2].map(t=>({lit:!1,neighbours:[t-1,t+1]}));function l(t){let r=o(i,t);if(r===i.length)throw new Error("all is lit");return r}try{l(7)}catch(t){console.log(t.stack)}})();
//# sourceMappingURL=lane.js.map
