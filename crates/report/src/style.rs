//! How pages look: light and dark, on screens from 360 pixels, on paper.

/// The style sheet.
pub(crate) const SHEET: &str = "\
:root{color-scheme:light dark;--paper:#fff;--ink:#1d242b;--quiet:#56626d;--line:#d5dbe0;--soft:#f1f4f6;--mark:#0b5a82;\
--bad:#a4201a;--care:#8a5300;--c0:#cfe3ee;--c1:#e7dcc4;--c2:#d3e5d0;--c3:#ead5dc;--c4:#dad9ee;--c5:#d2e4e1;--c6:#ecdccb;--c7:#dde2e6}\
@media(prefers-color-scheme:dark){:root{--paper:#14181c;--ink:#e4e9ed;--quiet:#9aa7b2;--line:#36404a;--soft:#1d242a;\
--mark:#7cc4ea;--bad:#ff9a92;--care:#f0bd6a;--c0:#1d4054;--c1:#4a3f26;--c2:#26452a;--c3:#4d2b38;--c4:#34325c;--c5:#1f4742;\
--c6:#523a24;--c7:#353e46}}\
*{box-sizing:border-box}body{margin:0 auto;padding:1.5rem 1rem 4rem;max-width:62rem;background:var(--paper);color:var(--ink);\
font:1rem/1.5 system-ui,sans-serif}h1{font-size:1.7rem;line-height:1.2;margin:0}h2{font-size:1.2rem;margin:2.5rem 0 .6rem;\
padding-bottom:.2rem;border-bottom:2px solid var(--line)}p{margin:.5rem 0}.about{color:var(--quiet)}\
dl{display:grid;grid-template-columns:max-content 1fr;gap:.15rem 1.2rem;margin:.6rem 0}dt{color:var(--quiet)}\
dd{margin:0;overflow-wrap:anywhere}.wide{overflow-x:auto;margin:.6rem 0}table{border-collapse:collapse;width:100%;\
font-size:.93rem}caption{text-align:left;font-weight:600;padding:.5rem 0 .2rem}th,td{text-align:left;vertical-align:top;\
padding:.28rem .7rem .28rem 0;border-bottom:1px solid var(--line)}td:last-child{overflow-wrap:anywhere;min-width:9rem}td.number:last-child{min-width:0}\
th{color:var(--quiet);font-weight:600;\
white-space:nowrap}th.number,td.number{text-align:right;white-space:nowrap;padding-right:1.3rem;font-variant-numeric:tabular-nums}\
th button{font:inherit;color:inherit;background:none;border:0;padding:0;cursor:pointer}th button:focus-visible{outline:2px solid var(--mark)}\
td.bad{color:var(--bad);font-weight:600}.remarks{list-style:none;padding:0;margin:1.2rem 0}.remarks li{padding:.5rem .8rem;\
margin:.4rem 0;background:var(--soft);border-left:.3rem solid var(--line)}.remarks .bad{border-color:var(--bad)}\
.remarks .danger{border-color:var(--care)}.remarks b{margin-right:.5rem}.bad b{color:var(--bad)}.danger b{color:var(--care)}\
.hint{color:var(--quiet);display:block}code{font:.92em ui-monospace,monospace;background:var(--soft);padding:.1rem .3rem;\
overflow-wrap:anywhere}pre{background:var(--soft);padding:.7rem .9rem;overflow-x:auto;margin:.6rem 0}pre code{padding:0}\
figure{margin:.8rem 0}figcaption{color:var(--quiet);font-size:.93rem;margin-bottom:.3rem}svg{display:block;width:100%;height:auto}\
svg text{fill:var(--ink);font:12px system-ui,sans-serif}svg .head{font-weight:600;font-size:13px}svg rect{stroke:var(--paper);stroke-width:1}\
svg a:focus-visible rect,svg a:hover rect{stroke:var(--mark);stroke-width:2}tr:target td{background:var(--soft)}\
.bars{display:grid;grid-template-columns:max-content 1fr max-content;gap:.35rem .8rem;align-items:center}\
.track{background:var(--soft)}.bar{display:block;height:1.1rem;background:var(--mark);print-color-adjust:exact}.number{text-align:right}img{max-width:100%;border:1px solid var(--line)}details{margin:.6rem 0}summary{cursor:pointer;color:var(--mark)}\
footer{margin-top:3rem;color:var(--quiet);font-size:.9rem}nav a,td a{color:var(--mark)}nav a{margin-right:1rem}\
@media(max-width:34rem){dl{grid-template-columns:1fr}dd{margin-bottom:.4rem}}\
@media print{:root{--paper:#fff;--ink:#000;--quiet:#444;--line:#bbb;--soft:#f3f3f3;--mark:#000}@page{size:A4;margin:16mm}\
body{max-width:none;padding:0;font-size:10pt}nav{display:none}.sheet{break-before:page}h2{break-after:avoid}tr,figure{break-inside:avoid}.wide{overflow:visible}\
details>*{display:block}}";

/// Sorts tables by the column whose heading is pressed. Without it they stand in their order.
pub(crate) const SCRIPT: &str = "\
document.querySelectorAll('th').forEach(th=>{const b=document.createElement('button');b.type='button';\
b.append(...th.childNodes);th.append(b);b.addEventListener('click',()=>{const t=th.closest('table').tBodies[0];\
const n=[...th.parentNode.children].indexOf(th);const up=th.getAttribute('aria-sort')!=='ascending';\
th.parentNode.querySelectorAll('th').forEach(o=>o.removeAttribute('aria-sort'));th.setAttribute('aria-sort',up?'ascending':'descending');\
const v=r=>{const c=r.cells[n];return c.dataset.value===undefined?c.textContent:Number(c.dataset.value)};\
[...t.rows].sort((a,b)=>{const x=v(a),y=v(b);const s=typeof x==='number'&&typeof y==='number'?x-y:String(x).localeCompare(String(y));\
return up?s:-s}).forEach(r=>t.append(r))})});\
addEventListener('beforeprint',()=>document.querySelectorAll('details').forEach(d=>d.open=true));";
