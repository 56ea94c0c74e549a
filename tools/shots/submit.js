(async()=>{
const b=t=>[...document.querySelectorAll("button")].find(b=>b.innerText.startsWith(t)).click();
[...document.querySelectorAll("fieldset label")].filter(l => ["left", "depth"].includes(l.innerText.trim())).forEach(l => l.click());setTimeout(()=>b("Ask the"),1200)
})()
