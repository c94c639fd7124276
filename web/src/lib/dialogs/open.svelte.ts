/** How many dialogs are open: what is said then is said in the last of them, as the page behind it takes no presses. */
export const dialogs = $state({ open: 0 });
