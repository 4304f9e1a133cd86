// Tables are sorted by their heads, and filtered; without this they are whole.
for (const table of document.querySelectorAll('table.rows')) {
  const body = table.tBodies[0];
  const key = (row, i) => row.cells[i].dataset.n ?? row.cells[i].textContent;
  [...table.tHead.rows[0].cells].forEach((head, i) => {
    const button = document.createElement('button');
    button.textContent = head.textContent;
    head.replaceChildren(button);
    button.addEventListener('click', () => {
      const up = head.getAttribute('aria-sort') === 'descending' || !head.classList.contains('n') && head.getAttribute('aria-sort') !== 'ascending';
      for (const other of table.tHead.rows[0].cells) other.removeAttribute('aria-sort');
      head.setAttribute('aria-sort', up ? 'ascending' : 'descending');
      const rows = [...body.rows].sort((a, b) => key(a, i).localeCompare(key(b, i), 'en', { numeric: true }));
      body.replaceChildren(...(up ? rows : rows.reverse()));
    });
  });
  const filter = table.parentElement.previousElementSibling;
  const input = filter?.querySelector('input');
  input?.addEventListener('input', () => {
    const text = input.value.toLowerCase();
    let shown = 0;
    for (const row of body.rows) {
      row.hidden = !row.textContent.toLowerCase().includes(text);
      if (!row.hidden) shown++;
    }
    filter.querySelector('output').textContent = text ? `${shown} of ${body.rows.length}` : '';
  });
}
