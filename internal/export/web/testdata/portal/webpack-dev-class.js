/*
 * ATTENTION: The "eval" devtool has been used (maybe by default in mode: "development").
 * This devtool is neither made for production nor for readable output files.
 * It uses "eval()" calls to create a separate source file in the browser devtools.
 * If you are trying to read the output file, select a different devtool (https://webpack.js.org/configuration/devtool/)
 * or disable the default devtool with "devtool: false".
 * If you are looking for production-ready output files, see mode: "production" (https://webpack.js.org/configuration/mode/).
 */
/******/ (() => { // webpackBootstrap
/******/ 	"use strict";
/******/ 	var __webpack_modules__ = ({

/***/ "./tmp/emain.js"
/*!**********************!*\
  !*** ./tmp/emain.js ***!
  \**********************/
(__unused_webpack___webpack_module__, __webpack_exports__, __webpack_require__) {

eval("{__webpack_require__.r(__webpack_exports__);\n/* harmony import */ var _tmp_main_js__WEBPACK_IMPORTED_MODULE_0__ = __webpack_require__(/*! ../tmp/main.js */ \"./tmp/main.js\");\n\n\n\n//# sourceURL=webpack://nb/./tmp/emain.js?\n}");

/***/ },

/***/ "./tmp/main.js"
/*!*********************!*\
  !*** ./tmp/main.js ***!
  \*********************/
(__unused_webpack___webpack_module__, __webpack_exports__, __webpack_require__) {

eval("{__webpack_require__.r(__webpack_exports__);\n// src/sdk.ts\nvar Bridge = class {\n  sdk;\n  constructor() {\n    this.sdk = window.Portal;\n  }\n  get available() {\n    return this.sdk !== void 0;\n  }\n  loaded() {\n    this.sdk?.ready();\n  }\n  submit(value) {\n    this.sdk?.score(\"best-score\", value);\n  }\n};\nvar bridge = new Bridge();\n\n// src/main.ts\nvar c = document.createElement(\"canvas\");\ndocument.body.append(c);\nvar g = c.getContext(\"2d\");\nvar t = 0;\nfunction frame() {\n  g.fillRect(t++ % 300, 0, 9, 9);\n  requestAnimationFrame(frame);\n}\nframe();\nbridge.loaded();\nif (bridge.available) bridge.submit(t);\n\n\n//# sourceURL=webpack://nb/./tmp/main.js?\n}");

/***/ }

/******/ 	});
/************************************************************************/
/******/ 	// The module cache
/******/ 	const __webpack_module_cache__ = {};
/******/ 	
/******/ 	// The require function
/******/ 	function __webpack_require__(moduleId) {
/******/ 		// Check if module is in cache
/******/ 		const cachedModule = __webpack_module_cache__[moduleId];
/******/ 		if (cachedModule !== undefined) {
/******/ 			return cachedModule.exports;
/******/ 		}
/******/ 		// Create a new module (and put it into the cache)
/******/ 		const module = __webpack_module_cache__[moduleId] = {
/******/ 			// no module.id needed
/******/ 			// no module.loaded needed
/******/ 			exports: {}
/******/ 		};
/******/ 	
/******/ 		// Execute the module function
/******/ 		if (!(moduleId in __webpack_modules__)) {
/******/ 			delete __webpack_module_cache__[moduleId];
/******/ 			const e = new Error("Cannot find module '" + moduleId + "'");
/******/ 			e.code = 'MODULE_NOT_FOUND';
/******/ 			throw e;
/******/ 		}
/******/ 		__webpack_modules__[moduleId](module, module.exports, __webpack_require__);
/******/ 	
/******/ 		// Return the exports of the module
/******/ 		return module.exports;
/******/ 	}
/******/ 	
/************************************************************************/
/******/ 	/* webpack/runtime/make namespace object */
/******/ 	// define __esModule on exports
/******/ 	__webpack_require__.r = (exports) => {
/******/ 		Object.defineProperties(exports, { [Symbol.toStringTag]: { value: 'Module' }, __esModule: { value: true } });
/******/ 	};
/******/ 	
/************************************************************************/
/******/ 	
/******/ 	// startup
/******/ 	// Load entry module and return exports
/******/ 	// This entry module can't be inlined because the eval devtool is used.
/******/ 	let __webpack_exports__ = __webpack_require__("./tmp/emain.js");
/******/ 	
/******/ })()
;