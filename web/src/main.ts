import '@fontsource-variable/archivo/wdth.css';
import '@fontsource-variable/spline-sans-mono';
import { mount } from 'svelte';
import App from './App.svelte';
import './look.css';

export default mount(App, { target: document.getElementById('app')! });
