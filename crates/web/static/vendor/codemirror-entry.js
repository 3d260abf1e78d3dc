// What the script editor needs of CodeMirror, in one file.
export { EditorState, StateField, StateEffect, RangeSetBuilder } from '@codemirror/state';
export { EditorView, Decoration, WidgetType, keymap, lineNumbers, drawSelection, highlightActiveLine } from '@codemirror/view';
export { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
export { autocompletion, completionKeymap, closeBrackets } from '@codemirror/autocomplete';
