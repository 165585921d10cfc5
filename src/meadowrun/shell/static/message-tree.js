// The lines of a document as a tree: finding, moving, copying. Lines stand in lists; a list has an
// address: '' for the document's own, 'ID:c1' for a column, 'CASE:case' for a version, 'ID:else'
// for what everyone else reads.
Meadowrun.tree = (doc) => {
  const fresh = () =>
    [...crypto.getRandomValues(new Uint8Array(4))]
      .map((b) => b.toString(16).padStart(2, '0'))
      .join('');

  function lists(lines, into, found) {
    found.push([into, lines]);
    for (const line of lines) {
      (line.columns || []).forEach((held, n) => lists(held, `${line.id}:c${n}`, found));
      (line.cases || []).forEach((one) => lists(one.content, `${one.id}:case`, found));
      if (line.otherwise) lists(line.otherwise, `${line.id}:else`, found);
    }
    return found;
  }

  const all = () => lists(doc.lines, '', []);
  const at = (into) => (all().find(([name]) => name === into) || [])[1];

  function find(id) {
    for (const [into, lines] of all()) {
      const index = lines.findIndex((line) => line.id === id);
      if (index >= 0) return {into, lines, index, line: lines[index]};
    }
    return null;
  }

  function caseOf(id) {
    for (const [, lines] of all()) {
      for (const line of lines) {
        const index = (line.cases || []).findIndex((one) => one.id === id);
        if (index >= 0) return {line, index, one: line.cases[index]};
      }
    }
    return null;
  }

  // A copy whose ids, at every depth, are its own.
  function copied(line) {
    const made = JSON.parse(JSON.stringify(line));
    const renew = (one) => {
      one.id = fresh();
      (one.columns || []).flat().forEach(renew);
      (one.cases || []).forEach((version) => {
        version.id = fresh();
        version.content.forEach(renew);
      });
      (one.otherwise || []).forEach(renew);
    };
    renew(made);
    return made;
  }

  function move(id, how) {
    const place = find(id);
    if (!place) return false;
    const {lines, index, line} = place;
    if (how === 'remove') lines.splice(index, 1);
    else if (how === 'copy') lines.splice(index + 1, 0, copied(line));
    else if (how === 'off') line.off = !line.off;
    else {
      const to = index + (how === 'up' ? -1 : 1);
      if (to < 0 || to >= lines.length) return false;
      lines.splice(to, 0, lines.splice(index, 1)[0]);
    }
    return true;
  }

  // Puts a line into another list; false where it may not stand there.
  function put(id, into, index) {
    const place = find(id),
      target = at(into);
    if (!place || !target) return false;
    if (place.line.type === 'columns' && /:c\d$/.test(into)) return false;
    if (lists([place.line], 'x', []).some(([name]) => name === into)) return false;
    place.lines.splice(place.index, 1);
    target.splice(index, 0, place.line);
    return true;
  }

  return {all, at, find, caseOf, copied, move, put, fresh};
};
