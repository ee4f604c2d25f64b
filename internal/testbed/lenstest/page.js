document.body.dataset.lens = "its own script ran";
