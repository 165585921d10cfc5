// Formatting of chosen words in a place where one writes: bold, italic, links, colours and lists.
// What the tags may be is held by the server; here only the chosen words are wrapped or unwrapped.
Meadowrun.ink = (() => {
  const BLOCKS = 'p, li, div';

  // What is chosen in a place; a caret alone means the word it stands in.
  function chosen(place) {
    const selection = getSelection();
    if (!selection.rangeCount || !place.contains(selection.anchorNode)) return null;
    const range = selection.getRangeAt(0).cloneRange();
    const {startContainer: text, startOffset: at} = range;
    if (range.collapsed && text.nodeType === Node.TEXT_NODE) {
      const before = /[\p{L}\p{N}’'-]*$/u.exec(text.data.slice(0, at))[0];
      const after = /^[\p{L}\p{N}’'-]*/u.exec(text.data.slice(at))[0];
      range.setStart(text, at - before.length);
      range.setEnd(text, at + after.length);
    }
    return range.collapsed ? null : range;
  }

  function choose(first, last) {
    const range = document.createRange();
    range.setStartBefore(first);
    range.setEndAfter(last);
    getSelection().removeAllRanges();
    getSelection().addRange(range);
  }

  // The paragraphs and list items that a range touches; the place itself where it has none.
  function blocks(place, range) {
    const found = [...place.querySelectorAll(BLOCKS)].filter(
      (block) => range.intersectsNode(block) && !block.querySelector(BLOCKS),
    );
    return found.length ? found : [place];
  }

  // The part of a range that lies in one block.
  function within(block, range) {
    const own = document.createRange();
    own.selectNodeContents(block);
    if (range.compareBoundaryPoints(Range.START_TO_START, own) > 0)
      own.setStart(range.startContainer, range.startOffset);
    if (range.compareBoundaryPoints(Range.END_TO_END, own) < 0)
      own.setEnd(range.endContainer, range.endOffset);
    return own;
  }

  function texts(range) {
    const root = range.commonAncestorContainer;
    if (root.nodeType === Node.TEXT_NODE) return [root];
    const walker = document.createTreeWalker(root, NodeFilter.SHOW_TEXT);
    const found = [];
    while (walker.nextNode())
      if (range.intersectsNode(walker.currentNode) && walker.currentNode.data.trim())
        found.push(walker.currentNode);
    return found;
  }

  const everywhere = (place, range, tags) =>
    texts(range).every((text) => {
      const around = text.parentElement.closest(tags);
      return around && place.contains(around) && around !== place;
    });

  function unwrap(root, tags) {
    root.querySelectorAll(tags).forEach((inner) => inner.replaceWith(...inner.childNodes));
  }

  // Takes a range out of every wrapper of some tags around it: what stood before and behind stays
  // wrapped.
  function lifted(place, range, tags) {
    const words = range.extractContents();
    unwrap(words, tags);
    const mark = document.createTextNode('');
    range.insertNode(mark);
    let around = mark.parentElement.closest(tags);
    while (around && place.contains(around) && around !== place) {
      const behind = document.createRange();
      behind.setStartBefore(mark);
      behind.setEndAfter(around);
      around.after(mark, behind.extractContents());
      around.parentElement.querySelectorAll(tags).forEach((one) => {
        if (!one.textContent && !one.querySelector('[data-fill]')) one.remove();
      });
      around = mark.parentElement.closest(tags);
    }
    return {words, mark};
  }

  // Wraps what is chosen in each block anew; `make` gives the wrapper, or nothing.
  function wrap(place, range, tags, make) {
    const parts = blocks(place, range)
      .map((block) => within(block, range))
      .filter((own) => !own.collapsed);
    const made = parts.map((own) => {
      const {words, mark} = lifted(place, own, tags);
      const wrapper = make();
      if (wrapper) wrapper.append(words);
      const nodes = wrapper ? [wrapper] : [...words.childNodes];
      mark.replaceWith(...nodes);
      return nodes;
    });
    const nodes = made.flat();
    if (nodes.length) choose(nodes[0], nodes[nodes.length - 1]);
  }

  function toggle(place, range, tag, tags) {
    const off = everywhere(place, range, tags);
    wrap(place, range, tags, () => (off ? null : document.createElement(tag)));
  }

  // Where the chosen words lead so far.
  function linkAt(place, range) {
    const [first] = texts(range);
    const link = first?.parentElement.closest('a');
    return link && place.contains(link) ? link.getAttribute('href') : '';
  }

  function listed(place, range) {
    const chosenBlocks = blocks(place, range);
    if (chosenBlocks.every((block) => block.tagName === 'LI')) {
      chosenBlocks.forEach(unlisted);
      return;
    }
    const list = document.createElement('ul');
    if (chosenBlocks[0] === place) {
      const item = document.createElement('li');
      item.append(...place.childNodes);
      list.append(item);
      place.append(list);
      return;
    }
    const first = chosenBlocks[0].closest('ul, ol') || chosenBlocks[0];
    first.before(list);
    for (const block of chosenBlocks) {
      const item = document.createElement('li');
      item.append(...block.childNodes);
      list.append(item);
      const held = block.parentElement;
      block.remove();
      if (held.matches('ul, ol') && !held.children.length) held.remove();
    }
    joined(list);
  }

  // Lists that stand one behind the other are one.
  function joined(list) {
    const [before, behind] = [list.previousElementSibling, list.nextElementSibling];
    if (behind?.tagName === 'UL') {
      list.append(...behind.childNodes);
      behind.remove();
    }
    if (before?.tagName !== 'UL') return;
    before.append(...list.childNodes);
    list.remove();
  }

  // The page takes no looks from its markup: colours come as data and are put on here.
  function paint(root) {
    root.querySelectorAll('.ink [data-colour]').forEach((words) => {
      words.style.color = words.dataset.colour;
    });
  }

  // A list item as a paragraph again, between what is left of its list.
  function unlisted(item) {
    const list = item.parentElement;
    const paragraph = document.createElement('p');
    paragraph.append(...item.childNodes);
    const behind = list.cloneNode(false);
    while (item.nextSibling) behind.append(item.nextSibling);
    item.remove();
    list.after(paragraph);
    if (behind.children.length) paragraph.after(behind);
    if (!list.children.length) list.remove();
  }

  // Plain words where the caret is, as pasting brings them: never somebody else's looks.
  function write(place, text) {
    const selection = getSelection();
    if (!selection.rangeCount) return;
    const range = selection.getRangeAt(0);
    range.deleteContents();
    const rows = text.replace(/\r\n?/g, '\n').split('\n');
    const plain = 'multi' in place.dataset ? '\n' : ' ';
    const nodes = rows.flatMap((row, n) => {
      const words = document.createTextNode(row);
      if (!n) return [words];
      const gap =
        'rich' in place.dataset ? document.createElement('br') : document.createTextNode(plain);
      return [gap, words];
    });
    const made = document.createDocumentFragment();
    made.append(...nodes);
    range.insertNode(made);
    range.setStartAfter(nodes[nodes.length - 1]);
    range.collapse(true);
    selection.removeAllRanges();
    selection.addRange(range);
    place.dispatchEvent(new InputEvent('input', {bubbles: true}));
  }

  return {
    chosen,
    linkAt,
    paint,
    write,
    bold: (place, range) => toggle(place, range, 'b', 'b, strong'),
    italic: (place, range) => toggle(place, range, 'i', 'i, em'),
    list: listed,
    link: (place, range, href) =>
      wrap(place, range, 'a', () => href && Object.assign(document.createElement('a'), {href})),
    colour: (place, range, colour) =>
      wrap(place, range, 'span[style]', () => {
        const span = document.createElement('span');
        span.style.color = colour;
        return span;
      }),
  };
})();
